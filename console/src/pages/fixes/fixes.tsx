// Fixes first: the list to take on a round of the sites, to read, to print, or as a table.
import { api, type FixRound } from "../../api/api";
import { useHere } from "../../frame/here";
import { Chooser, useChosen } from "../../ui/chooser";
import { Button, count, Empty, Heading, Loaded, PageLink, Panel, Scroll } from "../../ui/parts";

const hours = (minutes: number) =>
  minutes < 60 ? `${minutes} min` : `${Math.floor(minutes / 60)} h ${minutes % 60} min`;

export function FixesPage() {
  const { platform, release } = useHere();
  const { where } = useChosen();
  const query = { platform: platform.id, release, ...where };
  const found = api.useQuery("get", "/api/v1/fixes", { params: { query } });
  const table = `/api/v1/fixes.csv?${new URLSearchParams(query)}`;
  return (
    <>
      <Heading title="Fixes">
        What can be fixed on the way to {release}, combined per device, by site and action. Only where it helps.
      </Heading>
      <div className="mb-4 print:hidden">
        <Chooser />
      </div>
      <Loaded of={found} what="the fixes">
        {(data) =>
          data.devices === 0 ? (
            <Empty>Nothing here needs a fix that would help.</Empty>
          ) : (
            <>
              <div className="mb-4 flex flex-wrap items-center justify-between gap-3">
                <p role="status">
                  <strong>{count(data.devices, "device")}</strong>, {hours(data.minutes)}, <strong>{data.cost}</strong>{" "}
                  for parts.
                  {data.pointless > 0 && (
                    <span className="block text-sm text-ink-2">
                      {count(data.pointless, "device")} left out: floored whatever is fixed.
                    </span>
                  )}
                </p>
                <div className="flex flex-wrap items-center gap-3 print:hidden">
                  <a href={table} download>
                    As a table (CSV)
                  </a>
                  <Button quiet onClick={() => window.print()}>
                    Print
                  </Button>
                </div>
              </div>
              {data.parts.length > 0 && (
                <Panel title="Buy before you go">
                  <ul>
                    {data.parts.map((part) => (
                      <li key={part.title}>
                        <strong>{part.count} ×</strong> {part.title} <span className="text-ink-2">({part.cost})</span>
                      </li>
                    ))}
                  </ul>
                </Panel>
              )}
              <div className="mt-4 grid min-w-0 gap-4">
                {data.sites.map((site) => (
                  <Site key={site.site} site={site} />
                ))}
              </div>
            </>
          )
        }
      </Loaded>
    </>
  );
}

function Site({ site }: { site: FixRound["sites"][number] }) {
  return (
    <Panel
      title={site.site || "No site"}
      aside={
        <span className="text-ink-2">
          {count(site.devices, "device")}, {hours(site.minutes)}, {site.cost}
        </span>
      }
    >
      <div className="grid min-w-0 gap-4">
        {site.actions.map((action) => (
          <section key={action.title} className="min-w-0 break-inside-avoid">
            <h3 className="font-semibold">
              {action.title}{" "}
              <span className="font-sans text-sm font-normal text-ink-2">
                {action.count} × {action.minutes} min
                {Number(action.cost) > 0 && `, ${action.cost} each`}
              </span>
            </h3>
            <Scroll label={`${site.site}: ${action.title}`}>
              <table className="w-full min-w-xl table-fixed text-sm">
                <thead className="sr-only">
                  <tr>
                    <th scope="col" className="w-10">
                      Done
                    </th>
                    <th scope="col">Device</th>
                    <th scope="col">Where</th>
                    <th scope="col">For</th>
                    <th scope="col">Then</th>
                  </tr>
                </thead>
                <tbody>
                  {action.visits.map((visit) => (
                    <tr key={visit.device}>
                      <td className="cell w-10">
                        <span aria-hidden="true" className="inline-block size-3.5 rounded-[3px] border border-ink-2" />
                      </td>
                      <td className="cell w-48 whitespace-nowrap">
                        <PageLink to={`/devices/${visit.device}`}>{visit.device}</PageLink>
                        {visit.of > 1 && (
                          <span className="text-ink-2">
                            {" "}
                            step {visit.step} of {visit.of}
                          </span>
                        )}
                      </td>
                      <td className="cell">
                        {visit.name} · {visit.role}
                      </td>
                      <td className="cell">{visit.meets.join(", ") || "prepares the next step"}</td>
                      <td className="cell w-40 whitespace-nowrap">{visit.after}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </Scroll>
            {action.count > action.visits.length && (
              <p className="mt-1 text-sm text-ink-2">
                {action.visits.length} of {action.count} devices: choose a site or a model to see others, or take the
                table, which has all.
              </p>
            )}
          </section>
        ))}
      </div>
    </Panel>
  );
}
