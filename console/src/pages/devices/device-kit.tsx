import { RadioGroup } from "radix-ui";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, client, once, useSend } from "../../api/api";
import type { components } from "../../api/schema";
import { allows, useHere } from "../../frame/here";
import { Button, Choice, Empty, ErrorMessage, Labelled, Loaded, Panel, Scroll, useParam } from "../../ui/parts";
import { KitTable } from "../kits/kits";
import type { DeviceProps } from "./device-props";
import { Gates, MediaChoice, Routes, Sets } from "./device-ready";

type Answer = components["schemas"]["OverrideAnswerResponse"];
type OverrideSet = components["schemas"]["OverrideSetResponse"];

export function KitTab({ device, release }: DeviceProps) {
  const { me } = useHere();
  const go = useNavigate();
  const [named, setRoute] = useParam("route", "in-place");
  const route = named === "clean" ? "clean" : "in-place";
  const choice = api.useQuery("get", "/api/v1/devices/{device}/overrides", {
    params: { path: { device }, query: { release, route } },
  });
  const kits = api.useQuery("get", "/api/v1/kits", { params: { query: { device } } });
  const [waived, setWaived] = useState<Record<string, string>>({});
  const [others, setOthers] = useState("");
  const [sets, setSets] = useState<string[]>([]);
  const [media, setMedia] = useParam("media");
  const [kept, setKept] = useParam("keep", "everything");
  const carry_over =
    route === "clean" ? ("nothing" as const) : kept === "files" ? ("files" as const) : ("everything" as const);
  const make = useSend(
    async () => {
      const waive = Object.fromEntries(Object.entries(waived).filter(([, why]) => why.trim()));
      const devices = others.split(/[\s,;]+/).filter(Boolean);
      const body = { device, devices, release, route, carry_over, waive, media, sets } as const;
      return (await client.POST("/api/v1/kits", { body, headers: once() })).data;
    },
    (kit) => kit && go(`/kits/${kit.kit.id}`),
  );
  const mayMake = allows(me, "make_kit");
  return (
    <div className="space-y-4">
      <Panel
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
        <Loaded of={choice} what="the overrides">
          {(data) => <Chosen answer={data} />}
        </Loaded>
      </Panel>
      <Routes device={device} release={release} />
      <div className="grid gap-3 sm:grid-cols-2">
        <MediaChoice release={release} media={media} set={setMedia} />
        {route === "in-place" && (
          <Choice
            label="Carried over"
            value={kept}
            set={setKept}
            needed
            of={[
              ["everything", "everything"],
              ["files", "files only"],
            ]}
          />
        )}
      </div>
      <Gates
        query={{ route, release, carry_over, media }}
        device={device}
        waived={waived}
        waive={mayMake ? setWaived : null}
      />
      <Sets device={device} chosen={sets} choose={mayMake ? setSets : null} />
      {mayMake && (
        <div className="space-y-3">
          <Labelled label="Also for these devices of the same case" hint="Separate more than one by commas.">
            <input className="field" value={others} onChange={(event) => setOthers(event.target.value)} />
          </Labelled>
          <Button onClick={() => make.mutate()} disabled={make.isPending}>
            {make.isPending ? "Making the kit…" : `Make the kit for ${release}, ${route}`}
          </Button>
          {make.error && <ErrorMessage error={make.error} />}
        </div>
      )}
      <Loaded of={kits} what="the kits">
        {(data) => (data.items.length ? <KitTable items={data.items} /> : <Empty>No kit was made for it yet.</Empty>)}
      </Loaded>
    </div>
  );
}

function Chosen({ answer }: { answer: Answer }) {
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
        <summary className="cursor-pointer font-semibold">
          Every override, what it covers, and why not the others
        </summary>
        <Matrix answer={answer} />
      </details>
    </div>
  );
}

/** Overrides by checks: which covers which; the chosen ones first, each other with the reason why not. */
function Matrix({ answer }: { answer: Answer }) {
  const chosen = (answer.best?.overrides ?? []).map((one) => ({ ...one, why: "chosen" }));
  const rows = [...chosen, ...answer.left_out];
  return (
    <Scroll label="Overrides by checks" className="mt-2">
      <table className="w-full text-sm">
        <thead>
          <tr className="[&>th]:px-2">
            <th scope="col">Override</th>
            {answer.checks.map((check) => (
              <th scope="col" key={check} className="text-center">
                {check}
              </th>
            ))}
            <th scope="col">Why</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.id}>
              <th scope="row" className="cell font-normal text-ink">
                {row.id}
              </th>
              {answer.checks.map((check) => (
                <td key={check} className="cell text-center">
                  {row.covers.includes(check) ? (
                    <>
                      <span aria-hidden="true">■</span>
                      <span className="sr-only">covers</span>
                    </>
                  ) : (
                    <span className="text-ink-2">–</span>
                  )}
                </td>
              ))}
              <td className={row.why === "chosen" ? "cell font-semibold text-met" : "cell"}>{row.why}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}

const names = (found: OverrideSet) => found.overrides.map((override) => override.id).join(" + ");

function OneSet({ found, words, strong = false }: { found: OverrideSet; words: string; strong?: boolean }) {
  return (
    <div className={`rounded-md border p-3 ${strong ? "border-met" : "border-edge"}`}>
      <p className={strong ? "font-semibold" : ""}>
        {words}: {found.overrides.map((override) => override.title).join(" and ")}
      </p>
      <p className="text-sm text-ink-2">
        Covers {found.covers.join(", ")}.{" "}
        {found.excess.length > 0 ? `It also switches off ${found.excess.join(", ")}.` : "Nothing more is switched off."}
        {found.warnings.map((words) => (
          <span key={words} className="block text-floor">
            {words}
          </span>
        ))}
      </p>
    </div>
  );
}
