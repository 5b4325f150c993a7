// A device's forecast under several assumptions, what each exception adds, what each way costs.
import { api } from "../../api/api";
import type { components } from "../../api/schema";
import { day, Loaded, PageLink, Panel, Scroll } from "../../ui/parts";

type Scenarios = components["schemas"]["ScenarioComparisonResponse"];
type Way = components["schemas"]["WayCostResponse"];

const ASSUMING = {
  planned: "the releases come as the sheet says",
  published: "nothing comes beyond what is published",
  pessimistic: "overrides from the field end at the next release",
} as const;
const WAYS = {
  stay: "Stay as it is",
  take: "Take what is offered",
  fix: "Fix, then take it",
  except: "Carry by exception",
  extend: "Pay for servicing",
  replace: "Replace",
} as const;

export function DeviceScenarios({ device }: { device: string }) {
  const found = api.useQuery("get", "/api/v1/devices/{device}/scenarios", { params: { path: { device } } });
  return (
    <Loaded of={found} what="the scenarios">
      {(data) => (
        <>
          <Panel title="If…">
            <ul className="grid gap-3 md:grid-cols-3">
              {data.assumed.map((one) => (
                <li key={one.assumption} className="rounded-md border border-edge p-3">
                  <p className="text-sm text-ink-2">{ASSUMING[one.assumption]}</p>
                  <p className="font-head text-lg font-semibold">
                    {one.technical.runway ? `until ${day(one.technical.runway)}` : "no serviced day"}
                  </p>
                  <p className="text-sm">
                    as approved {one.approved.runway ? `until ${day(one.approved.runway)}` : "not at all"}
                  </p>
                  <p className="text-sm text-ink-2">{one.technical.ended_by}.</p>
                </li>
              ))}
            </ul>
          </Panel>
          {data.exceptions.length > 0 && <Weights data={data} />}
          <Costs data={data} />
        </>
      )}
    </Loaded>
  );
}

function Weights({ data }: { data: Scenarios }) {
  return (
    <Panel title="What each exception does">
      <Scroll label="What each exception does">
        <table className="w-full">
          <thead>
            <tr className="[&>th]:px-3">
              <th scope="col">Exception</th>
              <th scope="col">Approved with it</th>
              <th scope="col">Without it</th>
              <th scope="col">Technically, if fixed</th>
            </tr>
          </thead>
          <tbody>
            {data.exceptions.map((one) => (
              <tr key={one.exception}>
                <th scope="row" className="cell text-base text-ink">
                  <PageLink to={`/exceptions/${one.exception}`}>{one.exception}</PageLink>
                  <span className="block text-sm font-normal text-ink-2">{one.requirements.join(", ")}</span>
                </th>
                <td className="cell">{day(one.with_it)}</td>
                <td className="cell">
                  {day(one.without_it)}
                  {!one.changes && <span className="block text-sm text-ink-2">the same: it changes nothing</span>}
                </td>
                <td className="cell">{day(one.fixed_technical)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
    </Panel>
  );
}

function Costs({ data }: { data: Scenarios }) {
  return (
    <Panel title="What each way costs">
      {data.runs && <p className="mb-2">Since its upgrade it runs {data.runs.replace("-", " ")}.</p>}
      <Scroll label="What each way costs, in figures">
        <table className="w-full">
          <thead>
            <tr className="[&>th]:px-3">
              <th scope="col">Way</th>
              <th scope="col">Serviced until</th>
              <th scope="col" className="text-right">
                Cost
              </th>
              <th scope="col" className="text-right">
                Months bought
              </th>
              <th scope="col" className="text-right">
                Per month
              </th>
              <th scope="col">Made of</th>
            </tr>
          </thead>
          <tbody>
            {data.ways.map((way) => (
              <tr key={way.way}>
                <th scope="row" className="cell text-base text-ink">
                  {WAYS[way.way]}
                  <span className="block text-sm font-normal text-ink-2">{way.how}</span>
                </th>
                <td className="cell whitespace-nowrap">{day(way.until)}</td>
                <td className="cell text-right tabular-nums">{way.cost}</td>
                <td className="cell text-right tabular-nums">{way.added}</td>
                <td className="cell text-right font-semibold tabular-nums">{way.per_month ?? "–"}</td>
                <td className="cell text-sm text-ink-2">
                  <Lines way={way} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
    </Panel>
  );
}

function Lines({ way }: { way: Way }) {
  if (way.lines.length === 0) return <>nothing</>;
  return (
    <ul>
      {way.lines.map((line) => (
        <li key={line.what}>
          {line.what}: {line.quantity} {line.unit} × {line.each} = {line.total}
        </li>
      ))}
    </ul>
  );
}
