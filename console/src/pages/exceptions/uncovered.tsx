// Who runs what without permission: the first question of an audit.
import { useInfiniteQuery } from "@tanstack/react-query";
import { client, type Uncovered } from "../../api/api";
import { useHere } from "../../frame/here";
import { Choice, count, day, Empty, Heading, Loaded, More, PageLink, Scroll, useParam } from "../../ui/parts";

const CAUSES: Record<Uncovered["cause"], string> = {
  never: "Nobody has asked",
  waits: "waits for a decision",
  lapsed: "lapsed",
  revoked: "was revoked",
  closed: "was closed",
  stale: "is stale",
};

const siteOf = (one: Uncovered) => one.site || "no site";

export function UncoveredPage() {
  const { platform } = useHere();
  const [site, setSite] = useParam("site");
  const found = useInfiniteQuery({
    queryKey: ["uncovered", platform.id, site],
    initialPageParam: "",
    queryFn: async ({ pageParam }) => {
      const query = { platform: platform.id, site, cursor: pageParam, limit: 100 };
      const { data } = await client.GET("/api/v1/uncovered", { params: { query } });
      if (!data) throw new Error("no page");
      return data;
    },
    getNextPageParam: (page) => page.next,
  });
  const sites = Object.keys(found.data?.pages[0]?.sites ?? {});
  return (
    <>
      <Heading title="Without permission">
        Devices that run a release with checks unmet that no exception in force names, the longest first.
      </Heading>
      <search className="mb-4 block max-w-xs">
        <Choice label="Site" value={site} set={setSite} of={sites.map((name) => [name, name])} />
      </search>
      <Loaded of={found} what="who runs what without permission">
        {(data) => {
          const items = data.pages.flatMap((page) => page.items);
          const total = data.pages[0]?.total ?? 0;
          if (items.length === 0)
            return <Empty>Every device runs what it meets, or what an exception in force permits.</Empty>;
          return (
            <>
              <p role="status" className="mb-2 text-ink-2">
                {count(total, "device")}
                {total > items.length && `, the first ${items.length} shown`}
              </p>
              <Scroll label="Without permission" className="slab p-0 sm:p-0">
                <table className="w-full min-w-[44rem]">
                  <thead>
                    <tr className="[&>th]:px-3 [&>th]:py-2">
                      <th scope="col">Device</th>
                      <th scope="col">Runs</th>
                      <th scope="col">Without permission for</th>
                      <th scope="col">Since</th>
                      <th scope="col">What would end it</th>
                    </tr>
                  </thead>
                  <tbody>
                    {items.map((one) => (
                      <Row key={one.device} one={one} />
                    ))}
                  </tbody>
                </table>
              </Scroll>
              <More of={found}>More devices</More>
            </>
          );
        }}
      </Loaded>
    </>
  );
}

const BEGAN: Record<Uncovered["began"], string> = {
  reading: "a reading",
  sheet: "a changed sheet",
  decision: "a sorting decision",
  upgrade: "the upgrade",
  lapsed: "a lapse",
  revoked: "a revocation",
  closed: "a closed exception",
  stale: "a stale approval",
};

function Row({ one }: { one: Uncovered }) {
  return (
    <tr>
      <th scope="row" className="cell font-normal text-ink">
        <PageLink to={`/devices/${one.device}?tab=exceptions`}>{one.device}</PageLink>
        <span className="block text-sm text-ink-2">
          {siteOf(one)}
          {one.critical && ", critical"}
        </span>
      </th>
      <td className="cell">{one.release}</td>
      <td className="cell">
        {one.requirements.join(", ")}
        <span className="block text-sm text-ink-2">
          {one.last && (
            <>
              <PageLink to={`/exceptions/${one.last}`}>{one.last}</PageLink>{" "}
            </>
          )}
          {CAUSES[one.cause]}
          {one.why && `: ${one.why}`}
        </span>
      </td>
      <td className="cell whitespace-nowrap">
        {one.exact ? day(one.since) : `at least ${day(one.since)}`}
        <span className="block text-sm text-ink-2">{count(one.days, "day")}</span>
        <span className="block text-sm text-ink-2">Began with {BEGAN[one.began]}</span>
      </td>
      <td className="cell">
        <ul>
          {one.steps.map((step) => (
            <li key={step}>{step}</li>
          ))}
        </ul>
      </td>
    </tr>
  );
}
