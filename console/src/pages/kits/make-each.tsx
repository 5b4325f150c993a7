// Kits for many devices: how they split into cases is seen first, then one kit is made for each distinct set of needs.
import { useState } from "react";
import { api, client, once, useSend } from "../../api/api";
import { allows, useHere } from "../../frame/here";
import { Button, Choice, count, ErrorMessage, Labelled, PageLink, Panel, Scroll } from "../../ui/parts";

const ROUTES = { "in-place": "In place", clean: "Clean" } as const;
type Route = keyof typeof ROUTES;
const isRoute = (name: string): name is Route => name in ROUTES;

export function MakeEach() {
  const { me, release } = useHere();
  const saved = api.useQuery("get", "/api/v1/selections");
  const [selection, setSelection] = useState("");
  const [names, setNames] = useState("");
  const [route, setRoute] = useState<Route>("in-place");
  const asked = () => ({
    device: "",
    devices: names.split(/[\s,;]+/).filter(Boolean),
    selection,
    release,
    route,
    carry_over: route === "clean" ? ("nothing" as const) : ("everything" as const),
    waive: {},
    media: "",
    sets: [],
  });
  const look = useSend(async () => (await client.POST("/api/v1/kits/cases", { body: asked() })).data);
  const make = useSend(
    async () => (await client.POST("/api/v1/kits/each", { body: asked(), headers: once() })).data,
    () => look.reset(),
  );
  const forget = () => {
    look.reset();
    make.reset();
  };
  if (!allows(me, "make_kits")) return null;
  const cases = look.data?.cases ?? [];
  const ready = cases.reduce((sum, one) => sum + one.devices.length, 0);
  return (
    <Panel title="Kits for many devices">
      <div className="grid gap-3 sm:grid-cols-3">
        <Choice
          label="A saved selection"
          value={selection}
          nothing="none"
          set={(name) => {
            forget();
            setSelection(name);
          }}
          of={(saved.data?.items ?? []).map((one) => [one.name, one.name])}
        />
        <Labelled label="And these devices" hint="Ids, parted by commas or spaces.">
          <input
            className="field"
            value={names}
            onChange={(event) => {
              forget();
              setNames(event.target.value);
            }}
          />
        </Labelled>
        <Choice
          label="Route"
          value={route}
          needed
          set={(name) => {
            forget();
            if (isRoute(name)) setRoute(name);
          }}
          of={Object.entries(ROUTES)}
        />
      </div>
      <div className="mt-3 flex gap-2">
        <Button quiet disabled={look.isPending || (!selection && !names.trim())} onClick={() => look.mutate()}>
          See the cases
        </Button>
        <Button disabled={make.isPending || cases.length === 0} onClick={() => make.mutate()}>
          {cases.length ? `Make ${count(cases.length, "kit")} for ${count(ready, "device")}` : "Make kits"}
        </Button>
      </div>
      {(look.error ?? make.error) != null && (
        <div className="mt-3">
          <ErrorMessage error={look.error ?? make.error} />
        </div>
      )}
      {look.data && (
        <Scroll label="Cases" className="mt-3">
          <table className="w-full min-w-[36rem]">
            <thead>
              <tr className="[&>th]:px-3 [&>th]:py-2">
                <th scope="col">Devices</th>
                <th scope="col">What they need</th>
                <th scope="col">Media</th>
              </tr>
            </thead>
            <tbody>
              {cases.map((one) => (
                <tr key={one.devices.join()}>
                  <td className="cell">{one.devices.join(", ")}</td>
                  <td className="cell">{one.overrides.join(", ") || "no override"}</td>
                  <td className="cell">{one.media || "none on record"}</td>
                </tr>
              ))}
              {look.data.refused.map((one) => (
                <tr key={`${one.pointer}${one.detail}`}>
                  <td className="cell text-floor">{one.pointer}</td>
                  <td className="cell">
                    {one.detail}. <span className="text-ink-2">{one.hint}.</span>
                  </td>
                  <td className="cell">no kit</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
      {make.data && (
        <p role="status" className="mt-3 font-semibold text-met">
          {count(make.data.made.length, "kit")} made:{" "}
          {make.data.made.map((kit, at) => (
            <span key={kit.id}>
              {at > 0 && ", "}
              <PageLink to={`/kits/${kit.id}`}>{kit.id}</PageLink> for {count(kit.devices.length, "device")}
            </span>
          ))}
        </p>
      )}
    </Panel>
  );
}
