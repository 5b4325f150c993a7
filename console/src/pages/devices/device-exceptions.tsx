// The account of a device: who allowed what, on what evidence, until when, and whether it still holds.
import { type AccountOf, api } from "../../api/api";
import { day, Empty, Loaded, PageLink, Panel } from "../../ui/parts";
import { ExceptionTable } from "../exceptions/exceptions";
import type { DeviceProps } from "./device-props";

export function ExceptionsTab({ device, release }: DeviceProps) {
  const found = api.useQuery("get", "/api/v1/exceptions", { params: { query: { device } } });
  const path = { device };
  const runs = api.useQuery("get", "/api/v1/devices/{device}/account", { params: { path } });
  const target = api.useQuery("get", "/api/v1/devices/{device}/account", { params: { path, query: { release } } });
  return (
    <div className="grid gap-4">
      <Loaded of={runs} what="the account">
        {(data) => <Account data={data} />}
      </Loaded>
      {runs.data && target.data && runs.data.release !== target.data.release && <Account data={target.data} />}
      <Loaded of={found} what="the exceptions">
        {(data) =>
          data.items.length ? <ExceptionTable items={data.items} /> : <Empty>No exception names this device.</Empty>
        }
      </Loaded>
    </div>
  );
}

function Account({ data }: { data: AccountOf }) {
  const here = data.runs === data.release;
  return (
    <Panel title={here ? `What permits it to run ${data.runs}` : `What permits it to go to ${data.release}`}>
      {data.permissions.length === 0 && <p className="text-met">It needs no exception at {data.release}.</p>}
      <ul>
        {data.permissions.map((one) => (
          <li key={one.requirement} className="border-t border-edge py-2.5 first:border-0">
            <p className="flex flex-wrap items-baseline justify-between gap-x-4">
              <strong>{one.title}</strong>
              <span className={one.holds ? "font-semibold text-met" : "font-semibold text-floor"}>
                {one.holds ? "permitted" : "not permitted"}
              </span>
            </p>
            <p className="text-ink-2">
              {one.measured}; {one.sort || "unsorted"} by {one.sorted_by}
            </p>
            {one.exception && (
              <p>
                <PageLink to={`/exceptions/${one.exception}`}>{one.exception}</PageLink>, approved by{" "}
                {one.approved_by.join(" and ")}
                {one.self_approved && <strong className="text-floor"> (their own request)</strong>} on{" "}
                {day(one.approved_at)}, through {day(one.through)}
              </p>
            )}
            {one.conditions.length > 0 && (
              <p>On condition: {one.conditions.map((kept) => `${kept.text} (${kept.word})`).join("; ")}</p>
            )}
            {one.attachments.map(({ number, title, link }) => (
              <p key={number}>
                Evidence:{" "}
                <a href={link} rel="noreferrer">
                  {title}
                </a>
              </p>
            ))}
            {!one.holds && <p className="text-floor">{one.still.join("; ")}</p>}
          </li>
        ))}
      </ul>
    </Panel>
  );
}
