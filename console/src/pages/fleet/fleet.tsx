// The fleet by place and kind, two targets side by side, and what if something were done.
import { Tabs } from "radix-ui";
import { useState } from "react";
import { api, client, useSend, type WhatIf } from "../../api/api";
import { useHere } from "../../frame/here";
import { StateBar } from "../../ui/bars";
import { Chooser, useChosen } from "../../ui/chooser";
import { STATES } from "../../ui/mark";
import {
  Button,
  CheckboxField,
  Choice,
  count,
  Empty,
  ErrorMessage,
  Heading,
  Loaded,
  PageLink,
  Panel,
  Scroll,
  useParam,
} from "../../ui/parts";
import { Together } from "../../ui/together";

const TABS = [
  ["groups", "By place and kind"],
  ["compare", "Compare"],
  ["what-if", "What if"],
] as const;

export function FleetPage() {
  const { platform, release } = useHere();
  const [tab, setTab] = useParam("view", "groups");
  return (
    <>
      <Heading title="Fleet">
        {platform.name} towards {release}: counted, compared, supposed.
      </Heading>
      <div className="mb-4">
        <Chooser />
      </div>
      <Tabs.Root value={tab} onValueChange={setTab}>
        <Tabs.List aria-label="Views" className="mb-4 flex gap-1 overflow-x-auto border-b border-edge p-1 pb-0">
          {TABS.map(([name, words]) => (
            <Tabs.Trigger key={name} value={name} className="tab">
              {words}
            </Tabs.Trigger>
          ))}
        </Tabs.List>
        <Tabs.Content value="groups">
          <Groups />
        </Tabs.Content>
        <Tabs.Content value="compare">
          <Compare />
        </Tabs.Content>
        <Tabs.Content value="what-if">
          <WhatIfPanel />
        </Tabs.Content>
      </Tabs.Root>
    </>
  );
}

const GROUPS = { site: "Site", model: "Model", role: "Role", runs: "Release it runs" } as const;
const WORDS: Record<string, string> = {
  ...Object.fromEntries(Object.entries(STATES).map(([name, known]) => [name, known.words])),
  "needs-exception": "needing an exception",
  carried: "carried by overrides",
  uncovered: "a check nothing covers",
  "no-path": "no path by this route",
};

function Groups() {
  const { platform, release } = useHere();
  const { where } = useChosen();
  const [by, setBy] = useParam("by", "site");
  const query = { platform: platform.id, release, by, ...where };
  const found = api.useQuery("get", "/api/v1/fleet", { params: { query } });
  const link = (name: string) => (by === "runs" ? null : `/devices?${by}=${encodeURIComponent(name)}`);
  return (
    <Loaded of={found} what="the fleet">
      {(data) =>
        data.devices === 0 ? (
          <Empty>No device fits. Take a condition away.</Empty>
        ) : (
          <div className="grid gap-4">
            <Panel
              title={count(data.devices, "device")}
              aside={<Choice label="By" value={by} set={setBy} of={Object.entries(GROUPS)} needed />}
            >
              <p className="mb-3">
                {Object.entries(data.states)
                  .map(([state, n]) => `${n} ${WORDS[state] ?? state}`)
                  .join(", ")}
              </p>
              <Scroll label={`Devices by ${by}`}>
                <table className="w-full">
                  <thead>
                    <tr className="[&>th]:px-3">
                      <th scope="col">{GROUPS[by as keyof typeof GROUPS]}</th>
                      <th scope="col">Devices</th>
                      <th scope="col" className="w-full">
                        By state
                      </th>
                    </tr>
                  </thead>
                  <tbody>
                    {data.groups.map((group) => {
                      const to = link(group.name);
                      return (
                        <tr key={group.name}>
                          <th scope="row" className="cell text-base font-normal whitespace-nowrap text-ink">
                            {to ? <PageLink to={to}>{group.name}</PageLink> : group.name}
                          </th>
                          <td className="cell">{group.devices}</td>
                          <td className="cell min-w-48">
                            <StateBar states={group.states} />
                            <span className="block text-sm text-ink-2">
                              {Object.entries(group.states)
                                .map(([state, n]) => `${n} ${WORDS[state] ?? state}`)
                                .join(", ")}
                            </span>
                          </td>
                        </tr>
                      );
                    })}
                  </tbody>
                </table>
              </Scroll>
            </Panel>
            <Together combinations={data.combinations} requirements={data.requirements.map((r) => r.requirement)} />
          </div>
        )
      }
    </Loaded>
  );
}

const ROUTES = [
  ["in-place", "in place"],
  ["clean", "clean"],
] as const;

function Compare() {
  const { platform, release } = useHere();
  const { where } = useChosen();
  const later = platform.releases[platform.releases.findIndex((one) => one.id === release) + 1]?.id ?? release;
  const [route, setRoute] = useParam("route", "in-place");
  const [other, setOther] = useParam("other", later);
  const [otherRoute, setOtherRoute] = useParam("other-route", "in-place");
  const sides = { route: way(route), other_release: other, other_route: way(otherRoute) };
  const query = { platform: platform.id, release, ...sides, ...where };
  const found = api.useQuery("get", "/api/v1/fleet/comparison", { params: { query } });
  const releases = platform.releases.slice(1).map((one) => [one.id, one.id] as const);
  return (
    <div className="grid gap-4">
      <div className="slab grid gap-3 sm:grid-cols-3">
        <Choice label={`${release}, by the route`} value={route} set={setRoute} of={ROUTES} needed />
        <Choice label="Beside release" value={other} set={setOther} of={releases} needed />
        <Choice label="By the route" value={otherRoute} set={setOtherRoute} of={ROUTES} needed />
      </div>
      <Loaded of={found} what="both sides">
        {(data) => {
          const names = [...new Set([...Object.keys(data.one.outcomes), ...Object.keys(data.other.outcomes)])];
          const most = Math.max(1, ...Object.values(data.one.outcomes), ...Object.values(data.other.outcomes));
          return (
            <>
              <Panel title={count(data.devices, "device")}>
                <Scroll label="Both sides">
                  <table className="w-full">
                    <thead>
                      <tr className="[&>th]:px-3">
                        <th scope="col">Comes out</th>
                        {[data.one, data.other].map((side, at) => (
                          <th scope="col" key={at === 0 ? "one" : "other"}>
                            {side.release}, {side.route}
                          </th>
                        ))}
                      </tr>
                    </thead>
                    <tbody>
                      {names.map((name) => (
                        <tr key={name}>
                          <th scope="row" className="cell text-base font-normal text-ink">
                            {WORDS[name] ?? name}
                          </th>
                          {[data.one, data.other].map((side, at) => (
                            <td key={at === 0 ? "one" : "other"} className="cell">
                              <Amount n={side.outcomes[name] ?? 0} most={most} />
                            </td>
                          ))}
                        </tr>
                      ))}
                    </tbody>
                  </table>
                </Scroll>
                {[data.one, data.other].map((side, at) =>
                  Object.keys(side.uncovered).length > 0 ? (
                    <p key={at === 0 ? "one" : "other"} className="mt-2 text-sm text-ink-2">
                      In the way of {side.release}, {side.route}:{" "}
                      {Object.entries(side.uncovered)
                        .map(([name, n]) => `${name} on ${n}`)
                        .join(", ")}
                    </p>
                  ) : null,
                )}
              </Panel>
              <Moves title="Come out differently" moves={data.shifts} />
            </>
          );
        }}
      </Loaded>
    </div>
  );
}

const way = (name: string) => (name === "clean" ? ("clean" as const) : ("in-place" as const));

function Amount({ n, most }: { n: number; most: number }) {
  return (
    <span className="flex items-center gap-2">
      <span className="w-10 text-right font-semibold">{n}</span>
      <svg viewBox="0 0 100 10" preserveAspectRatio="none" className="h-2.5 w-28" aria-hidden="true">
        <rect width={(100 * n) / most} height="10" fill="var(--ink-2)" />
      </svg>
    </span>
  );
}

type Move = { one: string; other: string; count: number; devices: string[] };

function Moves({ title, moves }: { title: string; moves: Move[] }) {
  return (
    <Panel title={title}>
      {moves.length === 0 && <p className="text-ink-2">None.</p>}
      <ul className="space-y-2">
        {moves.map((move) => (
          <li key={`${move.one}${move.other}`}>
            <strong>{count(move.count, "device")}</strong>: {WORDS[move.one] ?? move.one} →{" "}
            <strong>{WORDS[move.other] ?? move.other}</strong>
            <span className="block text-sm text-ink-2">
              {move.devices.map((device, at) => (
                <span key={device}>
                  {at > 0 && ", "}
                  <PageLink to={`/devices/${device}`}>{device}</PageLink>
                </span>
              ))}
              {move.count > move.devices.length && ` and ${move.count - move.devices.length} more`}
            </span>
          </li>
        ))}
      </ul>
    </Panel>
  );
}

const SORTS = [
  ["floor", "a floor"],
  ["installer-check", "an installer check"],
] as const;

function WhatIfPanel() {
  const { platform, release } = useHere();
  const { where } = useChosen();
  const table = api.useQuery("get", "/api/v1/sorting", { params: { query: { platform: platform.id, release } } });
  const [fixes, setFixes] = useState(true);
  const [approve, setApprove] = useState<string[]>([]);
  const [sorted, setSorted] = useState("");
  const [sort, setSort] = useState<string>("floor");
  const send = useSend(async () => {
    const { selection, ...rest } = where;
    const chosen = { ...rest, requirement: "", mark: "", words: "" };
    const sorts = sorted ? [{ requirement: sorted, sort: sort as "floor", model: "" }] : [];
    const body = {
      platform: platform.id,
      release,
      selection,
      where: chosen,
      fixes: [],
      all_fixes: fixes,
      sorts,
      approve,
    };
    return (await client.POST("/api/v1/fleet/what-if", { body })).data;
  });
  const toggle = (name: string) => (on: boolean) =>
    setApprove((old) => (on ? [...old, name] : old.filter((known) => known !== name)));
  return (
    <div className="grid gap-4">
      <Loaded of={table} what="the requirements">
        {(data) => (
          <form
            className="slab grid gap-4"
            onSubmit={(event) => {
              event.preventDefault();
              send.mutate();
            }}
          >
            <CheckboxField label="Every fix that applies is made" checked={fixes} set={setFixes} />
            <fieldset>
              <legend className="mb-1 font-semibold">These checks are excepted on the chosen devices</legend>
              <div className="grid gap-1 sm:grid-cols-2 lg:grid-cols-3">
                {data.items
                  .filter((row) => row.sort !== "floor")
                  .map((row) => (
                    <CheckboxField
                      key={row.requirement}
                      label={row.title}
                      checked={approve.includes(row.requirement)}
                      set={toggle(row.requirement)}
                    />
                  ))}
              </div>
            </fieldset>
            <div className="flex flex-wrap items-end gap-3">
              <Choice
                label="And this is sorted otherwise"
                value={sorted}
                set={setSorted}
                of={data.items.map((row) => [row.requirement, row.title] as const)}
                nothing="nothing"
              />
              {sorted && <Choice label="As" value={sort} set={setSort} of={SORTS} needed />}
              <Button type="submit" disabled={send.isPending}>
                {send.isPending ? "Counting…" : "Count"}
              </Button>
            </div>
          </form>
        )}
      </Loaded>
      {send.error && <ErrorMessage error={send.error} />}
      {send.data && <Outcome data={send.data} />}
    </div>
  );
}

function Outcome({ data }: { data: WhatIf }) {
  const names = [...new Set([...Object.keys(data.before), ...Object.keys(data.after)])];
  const most = Math.max(1, ...Object.values(data.before), ...Object.values(data.after));
  return (
    <>
      <Panel title={`${count(data.devices, "device")}, before and after`}>
        <Scroll label="Before and after">
          <table className="w-full" aria-live="polite">
            <thead>
              <tr className="[&>th]:px-3">
                <th scope="col">State</th>
                <th scope="col">Before</th>
                <th scope="col">After</th>
              </tr>
            </thead>
            <tbody>
              {names.map((name) => (
                <tr key={name}>
                  <th scope="row" className="cell text-base font-normal text-ink">
                    {WORDS[name] ?? name}
                  </th>
                  <td className="cell">
                    <Amount n={data.before[name] ?? 0} most={most} />
                  </td>
                  <td className="cell">
                    <Amount n={data.after[name] ?? 0} most={most} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Scroll>
        {data.fixes_made > 0 && (
          <p className="mt-2">
            {count(data.fixes_made, "fix").replace("fixs", "fixes")}, {Math.round(data.minutes / 60)} hours,{" "}
            <strong>{data.cost}</strong> for parts.
          </p>
        )}
      </Panel>
      <Moves title="Would move" moves={data.moves} />
    </>
  );
}
