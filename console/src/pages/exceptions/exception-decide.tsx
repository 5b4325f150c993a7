// The moves that somebody may make on an exception: approve all or a part, look again, decline, revoke, close.
import { useState } from "react";
import { api, client, type Exception, useSend } from "../../api/api";
import { useHere } from "../../frame/here";
import { ConfirmButton } from "../../ui/confirm";
import { Button, CheckboxField, count, ErrorMessage, Labelled, Panel } from "../../ui/parts";

type Decision = "approve" | "decline" | "revoke" | "close" | "confirm";
const WORDS: Record<string, string> = { confirm: "Let it stand" };

export function Decide({ data }: { data: Exception }) {
  const { me } = useHere();
  const [note, setNote] = useState("");
  const [out, setOut] = useState<string[]>([]);
  const params = { path: { exception: data.id }, header: { "If-Match": `"v${data.version}"` } };
  const decide = useSend((move: Decision | "withdraw") => {
    if (move === "withdraw") return client.POST("/api/v1/exceptions/{exception}/withdrawal", { params });
    const part = move === "approve" && out.length > 0;
    const body = {
      move,
      note,
      devices: part ? data.devices.filter((name) => !out.includes(name)) : [],
      requirements: part ? data.requirements.filter((name) => !out.includes(name)) : [],
    };
    return client.POST("/api/v1/exceptions/{exception}/decision", { params, body });
  });
  const done = data.approvals.some((one) => one.person === me.name) && data.state === "requested";
  const ordered = [...data.moves].sort((one, other) => Number(other === "confirm") - Number(one === "confirm"));
  const moves = ordered.filter((move) => data.actions.includes(move)) as (Decision | "withdraw")[];
  const toggle = (name: string) => (on: boolean) =>
    setOut((old) => (on ? old.filter((known) => known !== name) : [...old, name]));
  const parts = data.devices.length + data.requirements.length;
  return (
    <Panel title="Decide">
      {!moves.includes("approve") && (
        <p className="mb-3 text-ink-2">
          {data.state === "requested" &&
            (done
              ? "You have approved it; it waits for another approver."
              : "It waits for an approver who did not ask.")}
          {data.state !== "requested" && moves.length === 0 && "Nothing for you to decide."}
        </p>
      )}
      {moves.length > 0 && (
        <div className="space-y-3">
          {moves.includes("approve") && parts > 2 && (
            <details>
              <summary className="cursor-pointer font-semibold">
                {out.length > 0 ? `A part: without ${out.join(", ")}` : "Approve only a part"}
              </summary>
              <fieldset className="mt-2 max-h-64 space-y-1 overflow-y-auto">
                <legend className="sr-only">What is approved</legend>
                {[...data.requirements, ...data.devices].map((name) => (
                  <CheckboxField key={name} label={name} checked={!out.includes(name)} set={toggle(name)} />
                ))}
              </fieldset>
            </details>
          )}
          {moves.some((move) => move !== "withdraw") && (
            <Labelled label="Note" hint="A reason is needed to decline, revoke, let stand, or approve a part.">
              <textarea className="field" rows={3} value={note} onChange={(event) => setNote(event.target.value)} />
            </Labelled>
          )}
          {moves.includes("revoke") && <IfRevoked name={data.id} />}
          <div className="flex flex-wrap gap-2">
            {moves.map((move) =>
              move === "revoke" ? (
                <ConfirmButton
                  key={move}
                  label="Revoke"
                  title={`Revoke ${data.id}?`}
                  disabled={decide.isPending}
                  confirm={() => decide.mutate(move)}
                >
                  It permits nothing from now on: kits under it no longer stand, and a device that runs an upgrade on it
                  is uncovered from today. A revoked exception cannot be restored; someone has to request another.
                </ConfirmButton>
              ) : (
                <Button
                  key={move}
                  quiet={move !== "approve" && move !== "confirm"}
                  disabled={decide.isPending}
                  onClick={() => decide.mutate(move)}
                  className="first-letter:uppercase"
                >
                  {WORDS[move] ?? move}
                </Button>
              ),
            )}
          </div>
          {decide.error && <ErrorMessage error={decide.error} />}
        </div>
      )}
    </Panel>
  );
}

/** What revoking would leave to do, before anybody does. */
function IfRevoked({ name }: { name: string }) {
  const [open, setOpen] = useState(false);
  const path = { params: { path: { exception: name } } };
  const found = api.useQuery("get", "/api/v1/exceptions/{exception}/consequences", path, { enabled: open });
  const relying = found.data?.items.filter((one) => one.relies).length ?? 0;
  return (
    <details onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary className="cursor-pointer font-semibold">What if it is revoked?</summary>
      {found.data && (
        <div className="mt-1 text-sm">
          <p>{relying > 0 ? `${count(relying, "device")} rely on it:` : "No device relies on it."}</p>
          <ul className="list-disc pl-5">
            {found.data.items.map((one) => (
              <li key={one.device}>
                <strong>{one.device}</strong>: {one.steps.join(". ")}.
              </li>
            ))}
          </ul>
        </div>
      )}
    </details>
  );
}
