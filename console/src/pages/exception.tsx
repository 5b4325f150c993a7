import { type ReactNode, useState } from "react";
import { useParams } from "react-router";
import { api, client, type Exception, useSend } from "../api/api";
import { useHere } from "../frame";
import { Button, count, day, Go, Heading, Labelled, Shown, Slab, Trouble } from "../ui/parts";
import { EditTerms } from "./exception-edit";
import { STATE_COLOURS } from "./exceptions";

type DecisionMove = "approve" | "decline" | "revoke" | "close";

export function ExceptionPage() {
  const { exception = "" } = useParams();
  const path = { params: { path: { exception } } };
  const found = api.useQuery("get", "/api/v1/exceptions/{exception}", path);
  return (
    <Shown of={found} what={exception}>
      {(data) => (
        <>
          <Heading title={data.id}>
            <strong className={STATE_COLOURS[data.state] ?? ""}>{data.state}</strong>
            {data.in_force && ", in force"} · {data.up_to ? "up to " : ""}
            {data.release} · {count(data.devices.length, "device")} · through {day(data.expires_on)}
          </Heading>
          <div className="grid gap-4 lg:grid-cols-[1fr_20rem]">
            <Terms data={data} />
            <div className="grid content-start gap-4">
              <Decide key={data.version} data={data} />
              <Story name={data.id} />
            </div>
          </div>
        </>
      )}
    </Shown>
  );
}

function Row({ label, children }: { label: string; children: ReactNode }) {
  return (
    <div className="border-t border-edge py-2 first:border-0">
      <dt className="text-sm font-semibold text-ink-2">{label}</dt>
      <dd>{children}</dd>
    </div>
  );
}

function Terms({ data }: { data: Exception }) {
  const { me } = useHere();
  const mine = me.name === data.requester || me.role === "administrator";
  return (
    <Slab title="What it permits">
      <dl>
        <Row label="Requirements unmet">{data.requirements.join(", ")}</Row>
        <Row label="Devices">
          <ul className="flex flex-wrap gap-x-3">
            {data.devices.map((device) => (
              <li key={device}>
                <Go to={`/devices/${device}`}>{device}</Go>
              </li>
            ))}
          </ul>
        </Row>
        <Row label="Reason">{data.reason}</Row>
        <Row label="Conditions to keep">{data.conditions || "none"}</Row>
        <Row label="In force">
          {day(data.start_on)} through {day(data.expires_on)}, reviewed on {day(data.review_on)}
        </Row>
        <Row label="Owner">{data.owner}</Row>
        <Row label={`Risk, acknowledged word for word by ${data.acknowledged_by}`}>{data.risk_text}</Row>
        <Row label="Requested">
          by {data.requester} on {day(data.requested_at)}
        </Row>
        {data.decided_by && (
          <Row label={`Decided: ${data.state}`}>
            by {data.decided_by} on {day(data.decided_at)}
            {data.self_approved && <strong className="text-floor"> (own request)</strong>}
            {data.decision_note && <span className="block">“{data.decision_note}”</span>}
          </Row>
        )}
        {Object.entries(data.stale).map(([device, changes]) => (
          <Row key={device} label={`Stale for ${device}`}>
            <span className="text-floor">{changes.join("; ")}</span>
          </Row>
        ))}
      </dl>
      {data.state === "requested" && mine && <EditTerms key={data.version} data={data} />}
    </Slab>
  );
}

function Decide({ data }: { data: Exception }) {
  const { me } = useHere();
  const [note, setNote] = useState("");
  const headers = { "If-Match": `"v${data.version}"` };
  const path = { exception: data.id };
  const params = { path, header: headers };
  const decide = useSend((move: DecisionMove | "withdraw") =>
    move === "withdraw"
      ? client.POST("/api/v1/exceptions/{exception}/withdrawal", { params })
      : client.POST("/api/v1/exceptions/{exception}/decision", { params, body: { move, note } }),
  );
  const decider = me.role === "approver" || me.role === "administrator";
  const own = me.name === data.requester;
  const moves = data.moves.filter((move) =>
    move === "withdraw"
      ? own || me.role === "administrator"
      : decider && (move !== "approve" || !own || me.self_approval),
  ) as (DecisionMove | "withdraw")[];
  return (
    <Slab title="Decide">
      {!moves.includes("approve") && (
        <p className="mb-3 text-ink-2">
          {data.state === "requested" && "It waits for an approver who did not request it."}
          {data.state !== "requested" && moves.length === 0 && "Nothing for you to decide."}
        </p>
      )}
      {moves.length > 0 && (
        <div className="space-y-3">
          {moves.some((move) => move !== "withdraw") && (
            <Labelled label="Note" hint="A reason is needed to decline or revoke.">
              <textarea className="field" rows={3} value={note} onChange={(event) => setNote(event.target.value)} />
            </Labelled>
          )}
          <div className="flex flex-wrap gap-2">
            {moves.map((move) => (
              <Button
                key={move}
                quiet={move !== "approve"}
                disabled={decide.isPending}
                onClick={() => decide.mutate(move)}
                className="capitalize"
              >
                {move}
              </Button>
            ))}
          </div>
          {decide.error && <Trouble error={decide.error} />}
        </div>
      )}
    </Slab>
  );
}

function Story({ name }: { name: string }) {
  const found = api.useQuery("get", "/api/v1/ledger", { params: { query: { kind: "exception", object: name } } });
  return (
    <Slab title="What happened">
      <Shown of={found} what="the ledger">
        {(data) => (
          <ol className="space-y-1.5">
            {data.items.map((entry) => (
              <li key={entry.seq}>
                {entry.action.replace("exception ", "")} by {entry.actor}
                <span className="block text-sm text-ink-2">{day(entry.at)}</span>
              </li>
            ))}
          </ol>
        )}
      </Shown>
    </Slab>
  );
}
