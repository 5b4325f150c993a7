import { useState } from "react";
import { api } from "../../api/api";
import type { components } from "../../api/schema";
import { allows, useHere } from "../../frame/here";
import { Button, day, Empty, Loaded, PageLink, Panel } from "../../ui/parts";
import { Drift, FollowUps } from "./device-followups";
import { History } from "./device-history";
import type { DeviceProps } from "./device-props";
import { RecordAttempt, RecordObservation } from "./device-record";

const COLOURS: Record<string, string> = {
  "as-expected": "text-met",
  better: "text-fixable",
  worse: "text-floor",
  "too-old": "text-open",
  "not-observed": "text-open",
};

type Attempt = components["schemas"]["AttemptResponse"];
type Attribution = components["schemas"]["AttributionResponse"];

/** What each exception does to each class of updates, alone and with others. */
function Attributed({ of }: { of: Attribution[] }) {
  if (of.length === 0) return null;
  return (
    <ul className="mt-3 text-sm">
      {of.map((one) => (
        <li key={one.exception + one.update_class}>
          <PageLink to={`/exceptions/${one.exception}`}>{one.exception}</PageLink> alone makes {one.update_class}{" "}
          updates <strong>{one.alone}</strong>
          {one.shared_with.length > 0 && `, as does ${one.shared_with.join(", ")}`}; if it were fixed they would be{" "}
          {one.restored}.
        </li>
      ))}
    </ul>
  );
}

export function AfterTab({ device, release }: DeviceProps) {
  const { me } = useHere();
  const hands = allows(me, "record_attempt");
  const [wrong, setWrong] = useState<Attempt>();
  const standing = api.useQuery("get", "/api/v1/devices/{device}/standing", { params: { path: { device } } });
  const attempts = api.useQuery("get", "/api/v1/attempts", { params: { query: { device } } });
  return (
    <div className="grid gap-4">
      <Panel title="Updates, expected and seen">
        <Loaded of={standing} what="the standing">
          {(data) => (
            // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable
            <section className="relative overflow-x-auto" tabIndex={0} aria-label="Standing">
              <table className="w-full">
                <thead>
                  <tr className="[&>th]:px-3 [&>th]:pb-1">
                    <th scope="col">On {data.release}</th>
                    <th scope="col">Expected</th>
                    <th scope="col">Seen</th>
                    <th scope="col">Compared</th>
                  </tr>
                </thead>
                <tbody>
                  {data.classes.map((row) => (
                    <tr key={row.update_class}>
                      <th scope="row" className="cell text-base text-ink">
                        {row.update_class}
                      </th>
                      <td className="cell">
                        <strong>{row.expected}</strong>
                        {row.because.length > 0 && (
                          <span className="block text-sm text-ink-2">because of {row.because.join(", ")}</span>
                        )}
                      </td>
                      <td className="cell">
                        {row.observed ? `${row.observed.result} ${row.observed.reason}` : "nothing yet"}
                        {row.observed && (
                          <span className="block text-sm text-ink-2">
                            {day(row.observed.seen_on)}, {row.observed.source}
                          </span>
                        )}
                      </td>
                      <td className={`cell font-semibold ${COLOURS[row.compared]}`}>
                        {row.compared.replaceAll("-", " ")}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </section>
          )}
        </Loaded>
        <Attributed of={standing.data?.attributions ?? []} />
        <History device={device} />
        {hands && <RecordObservation device={device} release={release} />}
      </Panel>
      <FollowUps device={device} />
      <Drift device={device} />
      <Panel title="Attempts">
        <Loaded of={attempts} what="the attempts">
          {(data) =>
            data.items.length === 0 ? (
              <Empty>No attempt is recorded.</Empty>
            ) : (
              <ol className="space-y-2">
                {data.items.map((attempt) => (
                  <li key={attempt.id} className={attempt.corrected_by ? "text-ink-2" : undefined}>
                    <strong>
                      Try {attempt.number}: {attempt.outcome.replaceAll("-", " ")}
                    </strong>{" "}
                    to {attempt.release} on {day(attempt.ended_at)} by {attempt.by}
                    {attempt.kit && ` with ${attempt.kit}`}
                    {`, ${attempt.route}, carrying over ${attempt.carry_over}`}
                    {attempt.media && `, from ${attempt.media}`}
                    {attempt.tool_version && `, by ${attempt.tool_version}`}
                    {attempt.refused_by.length > 0 && `, refused by ${attempt.refused_by.join(", ")}`}
                    {attempt.seen && <span className="block text-ink-2">{attempt.seen}</span>}
                    {attempt.corrects && <span className="block">It corrects {attempt.corrects}.</span>}
                    {attempt.corrected_by ? (
                      <span className="block">
                        Recorded wrongly, and corrected by {attempt.corrected_by}. It counts for nothing.
                      </span>
                    ) : (
                      hands &&
                      attempt.id !== wrong?.id && (
                        <Button quiet className="mt-1 block min-h-8 py-0" onClick={() => setWrong(attempt)}>
                          Correct {attempt.id}
                        </Button>
                      )
                    )}
                  </li>
                ))}
              </ol>
            )
          }
        </Loaded>
        {hands && (
          <RecordAttempt
            key={wrong?.id ?? ""}
            device={device}
            release={release}
            wrong={wrong}
            done={() => setWrong(undefined)}
          />
        )}
      </Panel>
    </div>
  );
}
