import { api } from "../../api/api";
import type { components } from "../../api/schema";
import { useHere } from "../../frame/here";
import { count, day, Empty, Heading, Loaded, PageLink, Panel } from "../../ui/parts";
import { WhatIf } from "./forecast-what-if";

type Fleet = components["schemas"]["FleetForecastResponse"];

const COURSES: Record<string, string> = {
  take: "take it as offered",
  fix: "fix first",
  except: "carry by exception",
  read: "read again",
  stay: "stay for now",
  retire: "retire",
};

export function ForecastPage() {
  const { platform, release } = useHere();
  const found = api.useQuery("get", "/api/v1/forecast", { params: { query: { platform: platform.id, release } } });
  return (
    <>
      <Heading title="Forecast">When {platform.name} devices leave servicing, and what ends it.</Heading>
      <Loaded of={found} what="the forecast">
        {(data) =>
          data.devices === 0 ? (
            <Empty>
              No device has been read yet. Start on the <PageLink to="/readings">Readings page</PageLink>.
            </Empty>
          ) : (
            <div className="grid gap-4">
              <Panel
                title="Last serviced month"
                aside={
                  <span className="text-ink-2">
                    {count(data.devices, "device")}, as of {day(data.as_of)}
                  </span>
                }
              >
                <Months data={data} />
                <Legend data={data} />
              </Panel>
              <WhatIf />
              <div className="grid gap-4 lg:grid-cols-[1fr_18rem]">
                <Counted title="What ends it" counts={data.ends} />
                <Counted
                  title={`Course towards ${release}`}
                  counts={Object.fromEntries(Object.entries(data.courses).map(([way, n]) => [COURSES[way] ?? way, n]))}
                />
              </div>
            </div>
          )
        }
      </Loaded>
    </>
  );
}

function Months({ data }: { data: Fleet }) {
  const most = Math.max(1, ...data.months.map((month) => Math.max(month.technical, month.approved)));
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable
    <section className="relative overflow-x-auto" tabIndex={0} aria-label="Devices per last serviced month">
      <table className="w-full text-sm">
        <thead className="sr-only">
          <tr>
            <th scope="col">Month</th>
            <th scope="col">Devices</th>
          </tr>
        </thead>
        <tbody>
          {data.months.map((month) => (
            <tr key={month.month}>
              <th scope="row" className="pr-3 whitespace-nowrap">
                {month.month}
              </th>
              <td className="w-full py-1">
                <Bar n={month.technical} most={most} words="technically" causes={month.causes} />
                <Bar n={month.approved} most={most} words="as approved today" />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** What ends a device's servicing, each with a fill of its own: told apart by pattern as well as colour. */
const CAUSES: Record<string, [string, string]> = {
  "last-release": ["nothing: the sheet ends there", "var(--ink)"],
  floored: ["a floor", "repeating-linear-gradient(45deg, var(--floor) 0 4px, var(--slab) 4px 6px)"],
  "no-override": ["no override works", "repeating-linear-gradient(90deg, var(--check) 0 3px, var(--slab) 3px 6px)"],
  unknown: ["something unread", "repeating-linear-gradient(-45deg, var(--open) 0 2px, var(--slab) 2px 5px)"],
  "no-path": ["no path upwards", "repeating-linear-gradient(0deg, var(--ink-2) 0 2px, var(--slab) 2px 4px)"],
};
const cause = (kind: string) => CAUSES[kind] ?? [kind.replaceAll("-", " "), "var(--ink-2)"];

function Legend({ data }: { data: Fleet }) {
  const kinds = [...new Set(data.months.flatMap((month) => Object.keys(month.causes)))];
  return (
    <p className="mt-2 flex flex-wrap gap-x-5 text-sm">
      <span>Technically, exceptions granted, ended by</span>
      {kinds.map((kind) => (
        <span key={kind}>
          <span aria-hidden="true" className="mr-1.5 inline-block h-3 w-5" style={{ background: cause(kind)[1] }} />
          {cause(kind)[0]}
        </span>
      ))}
      <span>
        <span aria-hidden="true" className="mr-1.5 inline-block h-3 w-5 border-2 border-accent" />
        as approved today
      </span>
    </p>
  );
}

function Bar(given: { n: number; most: number; words: string; causes?: Record<string, number> }) {
  const { n, most, words, causes } = given;
  if (n === 0) return null;
  const parts = Object.entries(causes ?? {});
  return (
    <span className="grid items-center gap-2" style={{ gridTemplateColumns: `${Math.max(1, (85 * n) / most)}% 1fr` }}>
      {causes ? (
        <span aria-hidden="true" className="flex h-3.5">
          {parts.map(([kind, size]) => (
            <span key={kind} style={{ width: `${(100 * size) / n}%`, background: cause(kind)[1] }} />
          ))}
        </span>
      ) : (
        <span aria-hidden="true" className="h-2.5 border-2 border-accent" />
      )}
      <span>
        {n}{" "}
        <span className="sr-only">
          {words}
          {parts.map(([kind, size]) => `, ${size} ended by ${cause(kind)[0]}`)}
        </span>
      </span>
    </span>
  );
}

function Counted({ title, counts }: { title: string; counts: Record<string, number> }) {
  return (
    <Panel title={title}>
      <ul>
        {Object.entries(counts).map(([words, n]) => (
          <li key={words} className="flex justify-between gap-4 border-t border-edge py-1.5 first:border-0">
            <span>{words}</span>
            <strong>{n}</strong>
          </li>
        ))}
      </ul>
    </Panel>
  );
}
