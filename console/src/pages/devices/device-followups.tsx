// What the last upgrade of a device left to do, and what verify says when it is asked again.
import { useState } from "react";
import { api, client, useSend } from "../../api/api";
import type { components } from "../../api/schema";
import { allows, useHere } from "../../frame/here";
import {
  Button,
  CheckboxField,
  Choice,
  count,
  day,
  Empty,
  ErrorMessage,
  Labelled,
  Loaded,
  Panel,
} from "../../ui/parts";

type Step = components["schemas"]["FollowUpResponse"];
const STATES = ["done", "failed", "skipped"] as const;
const ANSWERS = ["as-before", "slower", "faster"] as const;
type State = (typeof STATES)[number];
type Answer = "" | (typeof ANSWERS)[number];
const daysTo = (from: string, to: string) => Math.round((Date.parse(to) - Date.parse(from.slice(0, 10))) / 864e5);
const named = (names: readonly string[]) => names.map((name) => [name, name.replace("-", " ")] as const);

export function FollowUps({ device }: { device: string }) {
  const { me } = useHere();
  const hands = allows(me, "settle_followup");
  const found = api.useQuery("get", "/api/v1/devices/{device}/follow-ups", { params: { path: { device } } });
  return (
    <Panel title="Follow-ups">
      <Loaded of={found} what="the follow-ups">
        {(data) =>
          data.steps.length === 0 ? (
            <Empty>No upgrade has left anything to do.</Empty>
          ) : (
            <>
              <p className="mb-3">
                After {data.attempt}.{" "}
                {data.blocked && <strong className="text-floor">Not finished: something that blocks is open. </strong>}
                {data.rollback_until
                  ? `It can go back through ${day(data.rollback_until)}: ${count(daysTo(me.today, data.rollback_until), "day")} left.`
                  : "It cannot go back."}
              </p>
              <ol>
                {data.steps.map((step) => (
                  <li key={step.id} className="border-t border-edge py-2 first:border-0">
                    <p className="flex flex-wrap justify-between gap-x-4">
                      <span>
                        {step.title}
                        {step.blocking && <strong className="text-check"> · blocking</strong>}
                      </span>
                      <Outcome step={step} />
                    </p>
                    {step.state === "open" && <p className="text-sm text-ink-2">{step.todo}</p>}
                    {hands && step.state === "open" && <Settle step={step} until={data.rollback_until} />}
                  </li>
                ))}
              </ol>
            </>
          )
        }
      </Loaded>
    </Panel>
  );
}

function Outcome({ step }: { step: Step }) {
  if (step.state === "open") return <span className="text-open">by {day(step.due_on)}</span>;
  return (
    <span className={step.state === "failed" ? "text-floor" : "text-met"}>
      <strong>{[step.state, step.answer.replace("-", " ")].filter(Boolean).join(", ")}</strong>{" "}
      <span className="text-sm text-ink-2">
        {step.by}, {day(step.at)}
        {step.reason && `: ${step.reason}`}
      </span>
    </span>
  );
}

/** What came of one; that which ends going back is asked a second time. */
function Settle({ step, until }: { step: Step; until: string | null }) {
  const [state, setState] = useState<State>("done");
  const [answer, setAnswer] = useState<Answer>(step.kind === "performance" ? "as-before" : "");
  const [reason, setReason] = useState("");
  const [sure, setSure] = useState(false);
  const ends = step.kind === "ends-rollback" && state === "done";
  const send = useSend(async () => {
    const body = { state, answer: state === "done" ? answer : ("" as const), reason, confirm: sure };
    await client.POST("/api/v1/follow-ups/{step}/outcome", { params: { path: { step: step.id } }, body });
  });
  return (
    <details className="mt-1">
      <summary className="cursor-pointer text-sm font-semibold">Record the outcome</summary>
      <div className="mt-2 grid gap-3 sm:grid-cols-3">
        <Choice label="Outcome" value={state} set={(value) => setState(value as State)} needed of={named(STATES)} />
        {step.kind === "performance" && state === "done" && (
          <Choice
            label="It runs"
            value={answer}
            set={(value) => setAnswer(value as Answer)}
            needed
            of={named(ANSWERS)}
          />
        )}
        {state !== "done" && (
          <Labelled label="Why">
            <input className="field" value={reason} onChange={(event) => setReason(event.target.value)} />
          </Labelled>
        )}
        {ends && (
          <div className="self-end">
            <CheckboxField
              label={until ? `End going back, possible through ${day(until)}` : "This ends going back, and is meant"}
              checked={sure}
              set={setSure}
            />
          </div>
        )}
      </div>
      <Button quiet className="mt-3" disabled={send.isPending || (ends && !sure)} onClick={() => send.mutate()}>
        Record
      </Button>
      {send.error && <ErrorMessage error={send.error} />}
    </details>
  );
}

export function Drift({ device }: { device: string }) {
  const found = api.useQuery("get", "/api/v1/devices/{device}/verifications", { params: { path: { device } } });
  return (
    <Panel title="Settings, verified again">
      <Loaded of={found} what="the verifications">
        {(data) =>
          data.items.length === 0 ? (
            <Empty>
              Nobody has asked again. <code>sh verify | doorstone follow-up verified {device} -</code>
            </Empty>
          ) : (
            <ol className="space-y-2">
              {data.items.map((one) => (
                <li key={one.id}>
                  {day(one.at)}, {one.kit}:{" "}
                  <strong className={one.ok ? "text-met" : "text-floor"}>
                    {one.ok
                      ? "all right"
                      : one.settings
                          .filter((row) => row.state !== "right")
                          .map((row) => `${row.name} ${row.state}`)
                          .join(", ")}
                  </strong>{" "}
                  <span className="text-sm text-ink-2">by {one.by}</span>
                  {one.changed.map((change) => (
                    <span key={change.setting} className="block text-sm text-floor">
                      Drifted since: {change.setting} was {change.was}, is {change.now}.
                    </span>
                  ))}
                </li>
              ))}
            </ol>
          )
        }
      </Loaded>
    </Panel>
  );
}
