import { api } from "../api/api";
import type { components } from "../api/schema";
import { useHere } from "../frame";
import { count, day, Empty, Go, Heading, Shown, Slab } from "../ui/parts";

type Fleet = components["schemas"]["FleetForecastShape"];

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
      <Shown of={found} what="the forecast">
        {(data) =>
          data.devices === 0 ? (
            <Empty>
              No device has been read yet. Start on the <Go to="/readings">Readings page</Go>.
            </Empty>
          ) : (
            <div className="grid gap-4">
              <Slab
                title="Last serviced month"
                aside={
                  <span className="text-ink-2">
                    {count(data.devices, "device")}, as of {day(data.as_of)}
                  </span>
                }
              >
                <Months data={data} />
                <p className="mt-2 flex flex-wrap gap-x-5 text-sm">
                  <span>
                    <span aria-hidden="true" className="mr-1.5 inline-block size-3 bg-ink" />
                    technically, exceptions granted
                  </span>
                  <span>
                    <span aria-hidden="true" className="mr-1.5 inline-block size-3 border-2 border-accent" />
                    as approved today
                  </span>
                </p>
              </Slab>
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
      </Shown>
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
                <Bar n={month.technical} most={most} words="technically" solid />
                <Bar n={month.approved} most={most} words="as approved today" />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Bar({ n, most, words, solid = false }: { n: number; most: number; words: string; solid?: boolean }) {
  if (n === 0) return null;
  return (
    <span className="grid items-center gap-2" style={{ gridTemplateColumns: `${Math.max(1, (85 * n) / most)}% 1fr` }}>
      <span aria-hidden="true" className={`h-2.5 ${solid ? "bg-ink" : "border-2 border-accent"}`} />
      <span>
        {n} <span className="sr-only">{words}</span>
      </span>
    </span>
  );
}

function Counted({ title, counts }: { title: string; counts: Record<string, number> }) {
  return (
    <Slab title={title}>
      <ul>
        {Object.entries(counts).map(([words, n]) => (
          <li key={words} className="flex justify-between gap-4 border-t border-edge py-1.5 first:border-0">
            <span>{words}</span>
            <strong>{n}</strong>
          </li>
        ))}
      </ul>
    </Slab>
  );
}
