// Devices that no sheet places: nothing that was imported vanishes from sight.
import { api, type Unplaced } from "../../api/api";
import { count, day, Empty, Heading, Loaded, Scroll } from "../../ui/parts";

const REASONS: Record<Unplaced["reason"], string> = {
  "no-platform": "Its readings name no platform",
  "unknown-platform": "No sheet describes its platform",
  "no-release": "Its readings name no release",
  "unknown-release": "The sheet does not know its release",
};

export function UnplacedPage() {
  const found = api.useQuery("get", "/api/v1/unplaced");
  return (
    <>
      <Heading title="Unplaced devices">
        No sheet knows their platform or release. Without a platform they are in no list, without a release they have no
        forecast.
      </Heading>
      <Loaded of={found} what="the devices that no sheet places">
        {(data) =>
          data.items.length === 0 ? (
            <Empty>A sheet knows every device.</Empty>
          ) : (
            <>
              <p role="status" className="mb-2 text-ink-2">
                {count(data.items.length, "device")}
              </p>
              <Scroll label="Unplaced devices" className="slab p-0 sm:p-0">
                <table className="w-full min-w-[40rem]">
                  <thead>
                    <tr className="[&>th]:px-3 [&>th]:py-2">
                      <th scope="col">Device</th>
                      <th scope="col">Why</th>
                      <th scope="col">It says</th>
                      <th scope="col">What to do</th>
                      <th scope="col">Last read</th>
                    </tr>
                  </thead>
                  <tbody>
                    {data.items.map((one) => (
                      <tr key={one.device}>
                        <th scope="row" className="cell font-normal text-ink">
                          {one.device}
                          <span className="block text-sm text-ink-2">{one.site || "no site"}</span>
                        </th>
                        <td className="cell">{REASONS[one.reason]}</td>
                        <td className="cell">{one.value || "nothing"}</td>
                        <td className="cell">{one.hint}</td>
                        <td className="cell whitespace-nowrap">{one.last_read_at ? day(one.last_read_at) : "never"}</td>
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
