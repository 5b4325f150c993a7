// The terms of one's own request, while nobody has decided.
import { type FormEvent, useState } from "react";
import { client, type Exception, useSend } from "../../api/api";
import { type AskedCondition, ConditionFields } from "../../ui/conditions";
import { Button, ErrorMessage, Labelled } from "../../ui/parts";

export function EditTerms({ data }: { data: Exception }) {
  const [conditions, setConditions] = useState<AskedCondition[]>(() =>
    data.conditions.map((one) => ({
      text: one.text,
      fact_condition: one.fact_condition,
      due_on: one.kind === "attested" ? one.due_on : null,
      every_days: one.every_days,
    })),
  );
  const [terms, setTerms] = useState({
    reason: data.reason,
    owner: data.owner,
    start_on: data.start_on,
    expires_on: data.expires_on,
    review_on: data.review_on,
  });
  const send = useSend(() =>
    client.PATCH("/api/v1/exceptions/{exception}", {
      params: { path: { exception: data.id }, header: { "If-Match": `"v${data.version}"` } },
      body: { ...terms, conditions },
    }),
  );
  const submit = (event: FormEvent) => {
    event.preventDefault();
    send.mutate();
  };
  const field = (name: keyof typeof terms, label: string, type = "text") => (
    <Labelled label={label}>
      <input
        className="field"
        type={type}
        required
        value={terms[name]}
        onChange={(event) => setTerms({ ...terms, [name]: event.target.value })}
      />
    </Labelled>
  );
  return (
    <details className="mt-4 border-t border-edge pt-3">
      <summary className="cursor-pointer font-semibold">Edit the terms</summary>
      <form onSubmit={submit} className="mt-3 grid gap-3">
        {field("reason", "Reason")}
        <ConditionFields of={conditions} set={setConditions} />
        {field("owner", "Owner")}
        <div className="grid gap-3 sm:grid-cols-3">
          {field("start_on", "Start", "date")}
          {field("expires_on", "Expiry", "date")}
          {field("review_on", "Review", "date")}
        </div>
        {send.error && <ErrorMessage error={send.error} />}
        <div>
          <Button type="submit" disabled={send.isPending}>
            {send.isPending ? "Writing…" : "Keep the edit"}
          </Button>
        </div>
      </form>
    </details>
  );
}
