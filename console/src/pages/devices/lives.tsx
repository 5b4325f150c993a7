// Devices that are not in service: since when, why, and what is left to do.
import { api, LIVES } from "../../api/api";
import { Choice, count, day, Empty, Heading, Loaded, PageLink, Scroll, useParam } from "../../ui/parts";

export function LivesPage() {
  const [life, setLife] = useParam("life");
  const found = api.useQuery("get", "/api/v1/lives", { params: { query: { life } } });
  return (
    <>
      <Heading title="Not in service">
        Devices set aside, retired or replaced. They count nowhere and have nothing due; their history stays.
      </Heading>
      <div className="mb-3 max-w-xs">
        <Choice
          label="What they are"
          value={life}
          set={setLife}
          of={Object.entries(LIVES).filter(([name]) => name !== "in-service")}
        />
      </div>
      <Loaded of={found} what="the devices that are not in service">
        {(data) =>
          data.items.length === 0 ? (
            <Empty>{life ? "No such device." : "Every device is in service."}</Empty>
          ) : (
            <>
              <p role="status" className="mb-2 text-ink-2">
                {count(data.items.length, "device")}
              </p>
              <Scroll label="Not in service" className="slab p-0 sm:p-0">
                <table className="w-full min-w-[48rem]">
                  <thead>
                    <tr className="[&>th]:px-3 [&>th]:py-2">
                      <th scope="col">Device</th>
                      <th scope="col">What it is</th>
                      <th scope="col">Why</th>
                      <th scope="col">Its data</th>
                      <th scope="col">Last read</th>
                    </tr>
                  </thead>
                  <tbody>
                    {data.items.map((one) => (
                      <tr key={one.device}>
                        <th scope="row" className="cell font-normal text-ink">
                          <PageLink to={`/devices/${one.device}?tab=facts`}>{one.device}</PageLink>
                          <span className="block text-sm text-ink-2">
                            {one.model || "unknown model"}, {one.site || "no site"}
                          </span>
                        </th>
                        <td className="cell">
                          {LIVES[one.life]}
                          {one.replaced_by && (
                            <>
                              {" "}
                              by <PageLink to={`/devices/${one.replaced_by}`}>{one.replaced_by}</PageLink>
                            </>
                          )}
                          <span className="block text-sm text-ink-2">
                            since {day(one.on)}
                            {one.look_on && `, look again on ${day(one.look_on)}`}
                          </span>
                        </td>
                        <td className="cell">{one.reason}</td>
                        <td className="cell">
                          {one.life === "set-aside"
                            ? "stays"
                            : one.wiped_by
                              ? `erased by ${one.wiped_by}`
                              : "not erased yet"}
                        </td>
                        <td className="cell">
                          {one.last_read_on ? day(one.last_read_on) : "never"}
                          {one.read_since && <span className="block text-sm text-floor">since it is gone</span>}
                        </td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              </Scroll>
            </>
          )
        }
      </Loaded>
    </>
  );
}
