// The readings of a device as they came, and what each source says passes or fails.
import { useInfiniteQuery } from "@tanstack/react-query";
import { client } from "../../api/api";
import type { components } from "../../api/schema";
import { day, Empty, Loaded, More, Scroll } from "../../ui/parts";

type Verdict = components["schemas"]["VerdictResponse"];
type Reading = components["schemas"]["ReadingResponse"];

/** A value as people read it, as the facts have it. */
function words(value: unknown) {
  if (typeof value === "boolean") return value ? "yes" : "no";
  return Array.isArray(value) ? value.join(", ") : String(value);
}

export function ReadingsTab({ device, verdicts }: { device: string; verdicts: Verdict[] }) {
  const found = useInfiniteQuery({
    queryKey: ["readings", device],
    initialPageParam: "",
    queryFn: async ({ pageParam }) => {
      const params = { path: { device }, query: { cursor: pageParam, limit: 20 } };
      const { data } = await client.GET("/api/v1/devices/{device}/readings", { params });
      if (!data) throw new Error("no page");
      return data;
    },
    getNextPageParam: (page) => page.next,
  });
  return (
    <div className="grid gap-4">
      {verdicts.length > 0 && (
        <Scroll label="Verdicts" className="slab">
          <table className="w-full">
            <caption className="pb-2 text-left font-semibold">What each source says passes or fails</caption>
            <thead>
              <tr className="[&>th]:px-3">
                <th scope="col">Source</th>
                <th scope="col">On</th>
                <th scope="col">Requirement</th>
                <th scope="col">Says</th>
              </tr>
            </thead>
            <tbody>
              {verdicts.map((verdict) => (
                <tr key={`${verdict.source}${verdict.requirement}`}>
                  <td className="cell">{verdict.source}</td>
                  <td className="cell whitespace-nowrap">{day(verdict.taken_at)}</td>
                  <td className="cell">{verdict.requirement}</td>
                  <td className={`cell font-semibold ${verdict.passed ? "text-met" : "text-floor"}`}>
                    {verdict.passed ? "pass" : "fail"}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
      <Loaded of={found} what="the readings">
        {(data) => {
          const readings = data.pages.flatMap((page) => page.items);
          if (readings.length === 0) return <Empty>Nothing has been read yet.</Empty>;
          return (
            <>
              {readings.map((reading) => (
                <OneReading key={`${reading.source}${reading.taken_at}`} reading={reading} />
              ))}
              <More of={found}>Earlier readings</More>
            </>
          );
        }}
      </Loaded>
    </div>
  );
}

function OneReading({ reading }: { reading: Reading }) {
  return (
    <details className="slab">
      <summary className="cursor-pointer">
        <strong>{day(reading.taken_at)}</strong>, {reading.source}: {Object.keys(reading.facts).length} facts
        {Object.keys(reading.verdicts).length > 0 && `, ${Object.keys(reading.verdicts).length} verdicts`}
        {Object.keys(reading.unread).length > 0 && `, ${Object.keys(reading.unread).length} not read`}
      </summary>
      {reading.texts.map((text) => (
        <p key={text} className="mt-2">
          Failure message: “{text}”
        </p>
      ))}
      <dl className="mt-2 grid gap-x-4 text-sm sm:grid-cols-[14rem_1fr]">
        {Object.entries(reading.facts).map(([name, value]) => (
          <div key={name} className="contents">
            <dt className="text-ink-2">{name}</dt>
            <dd>{words(value)}</dd>
          </div>
        ))}
        {Object.entries(reading.unread).map(([name, why]) => (
          <div key={name} className="contents">
            <dt className="text-ink-2">{name}</dt>
            <dd className="text-open">not read: {why}</dd>
          </div>
        ))}
      </dl>
    </details>
  );
}
