// Recording on a device: what came of an attempt, what was seen of updates.
import { type FormEvent, type ReactNode, useState } from "react";
import { api, client, once, useSend } from "../../api/api";
import type { components } from "../../api/schema";
import { useHere } from "../../frame/here";
import { Button, CheckboxField, ErrorMessage, Labelled } from "../../ui/parts";
import type { DeviceProps } from "./device-props";

type Attempt = components["schemas"]["AttemptResponse"];

const OUTCOMES = ["completed", "refused", "carry-over-lost", "failed-to-start", "rolled-back", "abandoned"] as const;
type Outcome = (typeof OUTCOMES)[number];
const ROUTES = ["in-place", "clean", "offered"] as const;
const CARRY_OVER = ["everything", "files", "nothing"] as const;
const CLASSES = ["security", "driver", "release"] as const;
const RESULTS = ["arrived", "offered", "not-offered"] as const;
const REASONS = ["unsupported", "phased", "held", "unknown"] as const;

function Pick<T extends string>(given: { label: string; value: T; of: readonly T[]; set: (value: T) => void }) {
  return (
    <Labelled label={given.label}>
      <select className="field" value={given.value} onChange={(event) => given.set(event.target.value as T)}>
        {given.of.map((name) => (
          <option key={name}>{name}</option>
        ))}
      </select>
    </Labelled>
  );
}

function Recorder({
  title,
  send,
  open,
  children,
}: {
  title: string;
  open?: boolean;
  send: { mutate: () => void; isPending: boolean; isSuccess: boolean; error: unknown };
  children: ReactNode;
}) {
  const submit = (event: FormEvent) => {
    event.preventDefault();
    send.mutate();
  };
  return (
    <details className="mt-3 border-t border-edge pt-3" open={open}>
      <summary className="cursor-pointer font-semibold">{title}</summary>
      <form onSubmit={submit} className="mt-3 grid gap-3 sm:grid-cols-3">
        {children}
        <div className="sm:col-span-3">
          <Button type="submit" disabled={send.isPending}>
            {send.isPending ? "Recording…" : "Record"}
          </Button>
          {send.isSuccess && (
            <span role="status" className="ml-3 font-semibold text-met">
              Recorded.
            </span>
          )}
        </div>
        {send.error != null && (
          <div className="sm:col-span-3">
            <ErrorMessage error={send.error} />
          </div>
        )}
      </form>
    </details>
  );
}

/** Records an attempt; with `wrong`, one that takes the place of an attempt that was recorded wrongly. */
export function RecordAttempt({
  device,
  release,
  wrong,
  done,
}: DeviceProps & { wrong?: Attempt | undefined; done: () => void }) {
  const { me, platform } = useHere();
  const kits = api.useQuery("get", "/api/v1/kits", { params: { query: { device } } });
  const [outcome, setOutcome] = useState<Outcome | "">("");
  const [chosenKit, setKit] = useState<string | null>(wrong ? (wrong.kit ?? "") : null);
  const [started, setStarted] = useState(wrong?.started_at.slice(0, 16) ?? `${me.today}T08:00`);
  const [ended, setEnded] = useState(wrong?.ended_at.slice(0, 16) ?? `${me.today}T09:00`);
  const [runs, setRuns] = useState("");
  const [refusedBy, setRefusedBy] = useState("");
  const [mismatch, setMismatch] = useState("");
  const draft = api.useQuery("get", "/api/v1/devices/{device}/attempts/draft", { params: { path: { device } } }).data;
  const [typed, setMedia] = useState<string | null>(null);
  const media = typed ?? draft?.media ?? "";
  const kit = chosenKit ?? draft?.kit ?? "";
  const [route, setRoute] = useState<(typeof ROUTES)[number]>("in-place");
  const [carry_over, setCarryOver] = useState<(typeof CARRY_OVER)[number]>("everything");
  const [tool_version, setTool] = useState("");
  const [seen, setSeen] = useState("");
  const [accepted, setAccepted] = useState(false);
  const send = useSend(async () => {
    if (outcome === "") return; // the field is required: a form without an outcome is not sent
    const refused_by = refusedBy.split(/[\s,]+/).filter(Boolean);
    const times = { started_at: started, ended_at: ended };
    const body = { device, kit, release, route, carry_over, tool_version };
    await client.POST("/api/v1/attempts", {
      body: {
        ...{ ...body, ...times, outcome, refused_by, media, seen, mismatch, notice_accepted: accepted },
        ...{ corrects: wrong?.id ?? "", runs: asksWhatRuns ? runs : "" },
      },
      headers: once(),
    });
    done();
  });
  const asksWhatRuns = wrong !== undefined && arrived(wrong.outcome) && outcome !== "" && !arrived(outcome);
  return (
    <Recorder title={wrong ? `Correct ${wrong.id}` : "Record an attempt"} send={send} open={wrong !== undefined}>
      {wrong && (
        <p className="sm:col-span-3">
          {wrong.id} says: {wrong.outcome.replaceAll("-", " ")} on {wrong.release}. It stays on record and counts for
          nothing once this is recorded.{" "}
          <Button quiet className="min-h-8 py-0" onClick={done}>
            Do not correct it
          </Button>
        </p>
      )}
      {draft && draft.met.length > 0 && (
        <div className="sm:col-span-3">
          <p>Try {draft.number}. Before it:</p>
          <ul className="text-ink-2">
            {draft.met.map((words) => (
              <li key={words}>{words}</li>
            ))}
          </ul>
        </div>
      )}
      <Labelled label="Outcome">
        <select className="field" required value={outcome} onChange={(e) => setOutcome(e.target.value as Outcome | "")}>
          <option value="">Choose an outcome</option>
          {OUTCOMES.map((name) => (
            <option key={name}>{name}</option>
          ))}
        </select>
      </Labelled>
      {asksWhatRuns && (
        <Labelled label="It runs after all">
          <select className="field" required value={runs} onChange={(e) => setRuns(e.target.value)}>
            <option value="">Choose a release</option>
            {platform.releases.map((one) => (
              <option key={one.id}>{one.id}</option>
            ))}
          </select>
        </Labelled>
      )}
      <Labelled label="Started">
        <input
          className="field"
          type="datetime-local"
          required
          value={started}
          onChange={(e) => setStarted(e.target.value)}
        />
      </Labelled>
      <Labelled label="Ended">
        <input
          className="field"
          type="datetime-local"
          required
          value={ended}
          onChange={(e) => setEnded(e.target.value)}
        />
      </Labelled>
      <div className="self-end">
        <CheckboxField label="The vendor's notice was accepted" checked={accepted} set={setAccepted} />
      </div>
      <Labelled label="Kit">
        <select className="field" value={kit} onChange={(e) => setKit(e.target.value)}>
          <option value="">none</option>
          {(kits.data?.items ?? []).map((one) => (
            <option key={one.id}>{one.id}</option>
          ))}
        </select>
      </Labelled>
      <Labelled label="Refused by" hint="The checks that set-up named.">
        <input className="field" value={refusedBy} onChange={(e) => setRefusedBy(e.target.value)} />
      </Labelled>
      {outcome === "carry-over-lost" && (
        <Labelled label="What did not match">
          <input className="field" value={mismatch} onChange={(e) => setMismatch(e.target.value)} />
        </Labelled>
      )}
      {kit === "" && <Pick label="Route" value={route} of={ROUTES} set={setRoute} />}
      {kit === "" && <Pick label="Carried over" value={carry_over} of={CARRY_OVER} set={setCarryOver} />}
      <Labelled label="Media">
        <input className="field" value={media} onChange={(e) => setMedia(e.target.value)} />
      </Labelled>
      <Labelled label="Tool" hint="Version of set-up or of the media maker.">
        <input className="field" value={tool_version} onChange={(e) => setTool(e.target.value)} />
      </Labelled>
      <div className="sm:col-span-3">
        <Labelled label="What was seen">
          <textarea className="field" rows={2} value={seen} onChange={(e) => setSeen(e.target.value)} />
        </Labelled>
      </div>
      {outcome !== "" && (
        <p role="status" className="border-l-4 border-l-accent pl-3 sm:col-span-3">
          Recording it means: {follows(outcome, device, release, kit)}
          {asksWhatRuns && runs && ` It runs ${runs} again, and the follow-ups of ${wrong?.id} fall away.`}
        </p>
      )}
    </Recorder>
  );
}

const arrived = (outcome: string) => outcome === "completed" || outcome === "carry-over-lost";

/** What recording an outcome changes, before anybody records it. */
function follows(outcome: Outcome, device: string, release: string, kit: string): string {
  const counts = kit ? ` The overrides of ${kit} count as tried.` : "";
  switch (outcome) {
    case "completed":
      return `${device} runs ${release} from then on, and its follow-ups begin.${counts}`;
    case "carry-over-lost":
      return `${device} runs ${release} from then on without what was to be carried over. Its follow-ups begin.${counts}`;
    case "refused":
      return `Set-up did not go on. Checks named under Refused by count as refused by set-up; without them, what was seen waits to be sorted as a failure message.${counts}`;
    case "failed-to-start":
      return `${device} keeps its release on record, and must be brought back to a state that starts.${counts}`;
    case "rolled-back":
      return `${device} is back on its earlier release, and the way back ends.${counts}`;
    case "abandoned":
      return `${device} is not moved. Nothing counts as tried.`;
  }
}

export function RecordObservation({ device }: DeviceProps) {
  const { me } = useHere();
  const [kind, setKind] = useState<(typeof CLASSES)[number]>("security");
  const [result, setResult] = useState<(typeof RESULTS)[number]>("arrived");
  const [reason, setReason] = useState<(typeof REASONS)[number]>("unsupported");
  const [on, setOn] = useState(me.today);
  const send = useSend(async () => {
    const why = result === "not-offered" ? reason : ("" as const);
    const body = { device, seen_on: on, update_class: kind, result, reason: why, source: "operator", detail: "" };
    const sent = { ...body, corrects: "" };
    await client.POST("/api/v1/observations", { body: sent, headers: once() });
  });
  return (
    <Recorder title="Record what was seen" send={send}>
      <Pick label="Updates" value={kind} of={CLASSES} set={setKind} />
      <Pick label="Seen" value={result} of={RESULTS} set={setResult} />
      {result === "not-offered" && <Pick label="Because" value={reason} of={REASONS} set={setReason} />}
      <Labelled label="On">
        <input className="field" type="date" required value={on} onChange={(e) => setOn(e.target.value)} />
      </Labelled>
    </Recorder>
  );
}
