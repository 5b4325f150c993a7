// What rules rest on: a device's site, role and criticality, changed by whoever decides there.
import { useState } from "react";
import { client, useSend } from "../../api/api";
import { allows, useHere } from "../../frame/here";
import { Button, CheckboxField, ErrorMessage, Labelled } from "../../ui/parts";
import type { Detail } from "./device-props";

export function ChangeDevice({ data }: { data: Detail }) {
  const { me } = useHere();
  const { id, site: stands, role: serves, critical: lives } = data.device;
  const [site, setSite] = useState(stands);
  const [role, setRole] = useState(serves);
  const [critical, setCritical] = useState(lives);
  const [note, setNote] = useState("");
  const send = useSend(
    async () => {
      const body = { site, role, critical, note };
      await client.PATCH("/api/v1/devices/{device}", { params: { path: { device: id } }, body });
    },
    () => setNote(""),
  );
  if (!allows(me, "change_device", stands)) return null;
  const same = site === stands && role === serves && critical === lives;
  return (
    <details className="slab mb-4">
      <summary className="cursor-pointer font-semibold">Change site, role or criticality</summary>
      <form
        className="mt-3 grid gap-3 sm:grid-cols-2"
        onSubmit={(event) => {
          event.preventDefault();
          send.mutate();
        }}
      >
        <Labelled label="Site">
          <input className="field" value={site} maxLength={100} onChange={(event) => setSite(event.target.value)} />
        </Labelled>
        <Labelled label="Role">
          <input className="field" value={role} maxLength={100} onChange={(event) => setRole(event.target.value)} />
        </Labelled>
        <Labelled label="Why" hint="Approvals that rest on this device need a second look.">
          <input
            className="field"
            value={note}
            minLength={5}
            required
            onChange={(event) => setNote(event.target.value)}
          />
        </Labelled>
        <div className="self-center">
          <CheckboxField label="Critical to the organisation" checked={critical} set={setCritical} />
        </div>
        <div className="sm:col-span-2">
          <Button type="submit" quiet disabled={send.isPending || same}>
            Change it
          </Button>
        </div>
        {send.error && (
          <div className="sm:col-span-2">
            <ErrorMessage error={send.error} />
          </div>
        )}
      </form>
    </details>
  );
}
