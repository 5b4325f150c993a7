// What is believed of a device: each fact with its source and its day.
import { day, Scroll } from "../../ui/parts";
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
