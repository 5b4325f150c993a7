// What is known of a device: each fact with who said it, and every reading that came in.
import { day, Empty, Scroll } from "../../ui/parts";
import { ChangeDevice } from "./device-change";
import { ChangeLife } from "./device-life";
import type { Detail } from "./device-props";

export function FactsTab({ data }: { data: Detail }) {
  return (
    <>
      <ChangeDevice key={`${data.device.site}${data.device.role}${data.device.critical}`} data={data} />
      <ChangeLife key={data.life?.id ?? "none"} data={data} />
      <Scroll label="Facts" className="slab">
        <table className="w-full">
          <thead>
            <tr className="[&>th]:px-3 [&>th]:pb-2">
              <th scope="col">Fact</th>
              <th scope="col">Believed</th>
              <th scope="col">From</th>
              <th scope="col">Read on</th>
            </tr>
          </thead>
          <tbody>
            {data.facts.map((fact) => (
              <tr key={fact.name}>
                <th scope="row" className="cell font-normal text-ink">
                  {fact.title || fact.name}
                  <code className="block text-xs text-ink-2">{fact.name}</code>
                </th>
                <td className="cell font-semibold">
                  {fact.believed.value}
                  {fact.aged && <span className="block text-sm font-normal text-floor">too old to count</span>}
                  {fact.rivals.map((rival) => (
                    <span key={rival.source} className="block text-sm font-normal text-open">
                      ≠ {rival.value} ({rival.source}, {day(rival.taken_at)})
                    </span>
                  ))}
                </td>
                <td className="cell">{fact.believed.source}</td>
                <td className="cell whitespace-nowrap">{day(fact.believed.taken_at)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
    </>
  );
}

export function ReadingsTab({ data }: { data: Detail }) {
  if (data.readings.length === 0) return <Empty>Nothing has been read yet.</Empty>;
  return (
    <div className="grid gap-4">
      {data.verdicts.length > 0 && (
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
              {data.verdicts.map((verdict) => (
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
      {data.readings.map((reading) => (
        <details key={`${reading.source}${reading.taken_at}`} className="slab">
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
                <dd>{Array.isArray(value) ? value.join(", ") : String(value)}</dd>
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
      ))}
    </div>
  );
}
