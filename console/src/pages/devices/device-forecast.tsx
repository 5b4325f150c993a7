import { api, type Forecast, type UpgradePath } from "../../api/api";
import { day, Loaded, Panel } from "../../ui/parts";
import { Timeline } from "../../ui/timeline";
import type { DeviceProps } from "./device-props";
import { DeviceScenarios } from "./device-scenarios";

const WAYS: Record<string, string> = {
  offered: "offered",
  clean: "by a clean install",
  "by-exception": "by exception",
  "after-fix": "after a fix",
  "no-override": "no override works",
  floored: "floored",
  unknown: "unknown",
};

export function ForecastTab({ device, release }: DeviceProps) {
  const query = { params: { path: { device }, query: { release } } };
  const found = api.useQuery("get", "/api/v1/devices/{device}/forecast", query);
  return (
    <Loaded of={found} what="the forecast">
      {(data) => (
        <div className="grid gap-4">
          <Panel title="How long it stays serviced" aside={<span className="text-ink-2">as of {day(data.as_of)}</span>}>
            <Timeline data={data} />
            <div className="mt-4 grid gap-4 sm:grid-cols-2">
              <LineWords title="Technically" line={data.forecast.technical} />
              <LineWords title="As approved today" line={data.forecast.approved} />
            </div>
            {data.forecast.gap_so_far && (
              <p className="mt-3 text-floor">
                Out of servicing since {day(data.forecast.gap_so_far.first)} ({data.forecast.gap_so_far.days} days).
              </p>
            )}
          </Panel>
          <Reaches data={data} />
          <DeviceScenarios device={device} />
        </div>
      )}
    </Loaded>
  );
}

function LineWords({ title, line }: { title: string; line: UpgradePath }) {
  return (
    <section>
      <h3 className="text-ink-2">{title}</h3>
      <p className="font-head text-xl font-semibold">{line.runway ? `until ${day(line.runway)}` : "no serviced day"}</p>
      <p className="text-ink-2">{line.ended_by}.</p>
      <ol className="mt-2 space-y-1">
        {line.moves.map((move) => (
          <li key={move.release}>
            <strong>{move.release}</strong> between {day(move.first)} and {day(move.latest)}, {WAYS[move.way]}
            {move.route === "clean" && move.way !== "clean" && ", clean: data is lost"}
            {move.way === "by-exception" && ` (${move.exceptions.join(", ") || "to be asked for"})`}
            {move.warnings.map((words) => (
              <span key={words} className="block text-floor">
                {words}
              </span>
            ))}
          </li>
        ))}
        {line.gaps.map((gap) => (
          <li key={gap.first} className="text-floor">
            not serviced {day(gap.first)} to {day(gap.last)} ({gap.days} days)
          </li>
        ))}
      </ol>
    </section>
  );
}

function Reaches({ data }: { data: Forecast }) {
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable
    <section className="slab relative overflow-x-auto" tabIndex={0} aria-label="Each later release">
      <table className="w-full">
        <thead>
          <tr className="[&>th]:px-3 [&>th]:pb-1">
            <th scope="col">Release</th>
            <th scope="col">How</th>
            <th scope="col">With</th>
          </tr>
        </thead>
        <tbody>
          {data.forecast.reaches.map((reach) => (
            <tr key={reach.release}>
              <th scope="row" className="cell text-base text-ink">
                {reach.release}
              </th>
              <td className="cell font-semibold">
                {WAYS[reach.way]}
                {reach.data_lost && <span className="block font-normal text-floor">what is on the device is lost</span>}
              </td>
              <td className="cell">
                {reach.fixes.length > 0 && <span className="block">fix {reach.fixes.join(", ")}</span>}
                {reach.overrides.length > 0 && <span className="block">{reach.overrides.join(" + ")}</span>}
                {reach.missing.length > 0 && (
                  <span className="block text-ink-2">an exception to ask for: {reach.missing.join(", ")}</span>
                )}
                {reach.exceptions.length > 0 && (
                  <span className="block text-ink-2">under {reach.exceptions.join(", ")}</span>
                )}
                {reach.why && <span className="block text-ink-2">{reach.why}</span>}
                {reach.warnings.map((words) => (
                  <span key={words} className="block text-floor">
                    {words}
                  </span>
                ))}
                {reach.not_approved && <span className="block text-floor">{reach.not_approved}</span>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
