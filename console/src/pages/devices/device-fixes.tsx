// The fixes of one device in order: after each, what is then met and what is no longer needed; and what was made.
import { useState } from "react";
import { api, client, type Fixes, once, useSend } from "../../api/api";
import { allows, useHere } from "../../frame/here";
import { StateMark } from "../../ui/mark";
import { Button, day, Empty, ErrorMessage, Labelled, Loaded, Panel } from "../../ui/parts";
import type { DeviceProps } from "./device-props";

const WORDS: Record<string, string> = {
  waiting: "waiting for a reading",
  proved: "proved by a reading",
  "not-seen": "not seen in the next reading",
  failed: "failed",
};

export function FixesTab({ device, release }: DeviceProps) {
  const query = { params: { path: { device }, query: { release } } };
  const found = api.useQuery("get", "/api/v1/devices/{device}/fixes", query);
  return (
    <Loaded of={found} what="the fixes">
      {(data) => (
        <div className="grid gap-4">
          {data.steps.length === 0 ? (
            <Empty>No fix applies to this device for {release}.</Empty>
          ) : (
            <Panel title={`${data.minutes} minutes, ${data.cost} for parts`}>
              <ol className="list-decimal space-y-2 pl-6">
                {data.steps.map((step) => (
                  <li key={step.fix.title}>
                    <strong>{step.fix.title}</strong>{" "}
                    <span className="text-ink-2">
                      ({step.fix.minutes} min{Number(step.fix.cost) > 0 && `, ${step.fix.cost}`})
                    </span>
                    <span className="block">
                      {step.meets.length > 0 ? `Then met: ${step.meets.join(", ")}.` : "Opens the way for the next."}
                    </span>
                    {step.stop && <strong className="block text-floor">Stop: {step.stop}.</strong>}
                    {step.recorded && <span className="block text-floor">It was {step.recorded}.</span>}
                    <RecordFix device={device} title={step.fix.title} />
                  </li>
                ))}
              </ol>
              {!data.exact && (
                <p className="mt-2 text-ink-2">
                  More than 16 fixes touch one another: each requirement's own cheapest is shown.
                </p>
              )}
              {data.spared.map((spared) => (
                <p key={`${spared.fix.title}${spared.requirement}`} className="mt-2 text-ink-2">
                  Not needed: {spared.fix.title}. {spared.requirement} is met after “{spared.after}”.
                </p>
              ))}
              <p className="mt-3 flex flex-wrap items-center gap-2">
                Now <StateMark state={data.state} /> then <StateMark state={data.after} />
                {data.left.length > 0 && <span className="text-ink-2">No fix meets {data.left.join(", ")}.</span>}
              </p>
            </Panel>
          )}
          {data.done.length > 0 && <Done done={data.done} />}
        </div>
      )}
    </Loaded>
  );
}

function RecordFix({ device, title }: { device: string; title: string }) {
  const { me } = useHere();
  const [note, setNote] = useState("");
  const send = useSend(
    async (outcome: "done" | "failed") => {
      const body = { title, outcome, note, done_at: null };
      await client.POST("/api/v1/devices/{device}/fixes", { params: { path: { device } }, body, headers: once() });
    },
    () => setNote(""),
  );
  if (!allows(me, "record_fix")) return null;
  return (
    <details className="mt-1">
      <summary className="cursor-pointer text-accent">Record it</summary>
      <div className="mt-2 grid max-w-xl gap-2">
        <Labelled label="Note" hint="What happened; needed if it failed.">
          <input className="field" value={note} maxLength={1000} onChange={(event) => setNote(event.target.value)} />
        </Labelled>
        <div className="flex flex-wrap gap-2">
          <Button type="button" disabled={send.isPending} onClick={() => send.mutate("done")}>
            Done
          </Button>
          <Button type="button" quiet disabled={send.isPending} onClick={() => send.mutate("failed")}>
            It failed
          </Button>
        </div>
        {send.error && <ErrorMessage error={send.error} />}
      </div>
    </details>
  );
}

function Done({ done }: { done: Fixes["done"] }) {
  return (
    <Panel title="Recorded">
      <ul className="space-y-1">
        {done.map((one) => (
          <li key={one.id}>
            <strong>{one.title}</strong>, {day(one.done_at)} by {one.by}:{" "}
            <span className={one.word === "not-seen" || one.word === "failed" ? "text-floor" : "text-ink-2"}>
              {WORDS[one.word]}
              {(one.seen || one.note) && `: ${one.seen || one.note}`}
            </span>
          </li>
        ))}
      </ul>
    </Panel>
  );
}
