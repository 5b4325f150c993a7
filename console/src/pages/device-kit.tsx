import { RadioGroup } from "radix-ui";
import { useNavigate } from "react-router";
import { api, client, once, useSend } from "../api/api";
import type { components } from "../api/schema";
import { useHere } from "../frame";
import { Button, Empty, Shown, Slab, Trouble, useParam } from "../ui/parts";
import type { DeviceProps } from "./device";
import { KitTable } from "./kits";

type Answer = components["schemas"]["OverrideAnswerShape"];
type Chosen = components["schemas"]["OverrideSetShape"];

export function KitTab({ device, release }: DeviceProps) {
  const { me } = useHere();
  const go = useNavigate();
  const [named, setRoute] = useParam("route", "in-place");
  const route = named === "clean" ? "clean" : "in-place";
  const choice = api.useQuery("get", "/api/v1/devices/{device}/overrides", {
    params: { path: { device }, query: { release, route } },
  });
  const kits = api.useQuery("get", "/api/v1/kits", { params: { query: { device } } });
  const make = useSend(
    async () => {
      const body = { device, release, route, carry_over: route === "clean" ? "nothing" : "everything" } as const;
      return (await client.POST("/api/v1/kits", { body, headers: once() })).data;
    },
    (kit) => kit && go(`/kits/${kit.kit.id}`),
  );
  const mayMake = me.role === "technician" || me.role === "administrator";
  return (
    <div className="space-y-4">
      <Slab
        title="Overrides"
        aside={
          <RadioGroup.Root value={route} onValueChange={setRoute} aria-label="Route" className="flex gap-4">
            {(["in-place", "clean"] as const).map((name) => (
              <span key={name} className="flex items-center gap-1.5">
                <RadioGroup.Item
                  id={`route-${name}`}
                  value={name}
                  className="size-5 rounded-full border-2 border-ink-2"
                >
                  <RadioGroup.Indicator className="mx-auto block size-2.5 rounded-full bg-accent" />
                </RadioGroup.Item>
                <label htmlFor={`route-${name}`}>{name}</label>
              </span>
            ))}
          </RadioGroup.Root>
        }
      >
        <Shown of={choice} what="the overrides">
          {(data) => <Choice answer={data} />}
        </Shown>
      </Slab>
      {mayMake && (
        <div className="space-y-3">
          <Button onClick={() => make.mutate()} disabled={make.isPending}>
            {make.isPending ? "Making the kit…" : `Make the kit for ${release}, ${route}`}
          </Button>
          {make.error && <Trouble error={make.error} />}
        </div>
      )}
      <Shown of={kits} what="the kits">
        {(data) => (data.items.length ? <KitTable items={data.items} /> : <Empty>No kit was made for it yet.</Empty>)}
      </Shown>
    </div>
  );
}

function Choice({ answer }: { answer: Answer }) {
  if (answer.checks.length === 0) return <p>Nothing needs an override on this route.</p>;
  return (
    <div className="space-y-3">
      <p className="text-ink-2">To cover: {answer.checks.join(", ")}.</p>
      {answer.best ? (
        <>
          <OneSet found={answer.best} words="Chosen" strong />
          {answer.alternatives.map((other) => (
            <OneSet key={names(other)} found={other} words="Next best" />
          ))}
        </>
      ) : (
        <p className="font-semibold text-floor">Nothing covers {answer.uncovered.join(", ")} on this route.</p>
      )}
      <details>
        <summary className="cursor-pointer font-semibold">Why not the others</summary>
        <ul className="mt-1 space-y-1">
          {answer.left_out.map((left) => (
            <li key={left.id}>
              <code>{left.id}</code>: {left.why}
            </li>
          ))}
        </ul>
      </details>
    </div>
  );
}

const names = (found: Chosen) => found.overrides.map((override) => override.id).join(" + ");

function OneSet({ found, words, strong = false }: { found: Chosen; words: string; strong?: boolean }) {
  return (
    <div className={`rounded-md border p-3 ${strong ? "border-met" : "border-edge"}`}>
      <p className={strong ? "font-semibold" : ""}>
        {words}: {found.overrides.map((override) => override.title).join(" and ")}
      </p>
      <p className="text-sm text-ink-2">
        Covers {found.covers.join(", ")}.{" "}
        {found.excess.length > 0 ? `It also switches off ${found.excess.join(", ")}.` : "Nothing more is switched off."}
      </p>
    </div>
  );
}
