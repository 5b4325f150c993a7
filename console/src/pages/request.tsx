import { Checkbox } from "radix-ui";
import { type FormEvent, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, client, type Finding, once, useSend } from "../api/api";
import { useHere } from "../frame";
import { Mark } from "../ui/mark";
import { Button, Empty, Heading, Labelled, Shown, Slab, Trouble } from "../ui/parts";

const plus = (iso: string, days: number) =>
  new Date(Date.parse(`${iso}T00:00:00Z`) + days * 86_400_000).toISOString().slice(0, 10);

export function RequestPage() {
  const [params] = useSearchParams();
  const { release } = useHere();
  const device = params.get("device") ?? "";
  const found = api.useQuery(
    "get",
    "/api/v1/devices/{device}/assessment",
    { params: { path: { device }, query: { release } } },
    { enabled: device !== "" },
  );
  return (
    <>
      <Heading title="Request an exception">Only installer checks can be excepted. Somebody else decides.</Heading>
      {device ? (
        <Shown of={found} what="the findings">
          {(data) => (
            <Form key={device} device={device} findings={data.findings} asked={params.getAll("requirement")} />
          )}
        </Shown>
      ) : (
        <Empty>Start from a device that needs one.</Empty>
      )}
    </>
  );
}

function Form({ device, findings, asked }: { device: string; findings: Finding[]; asked: string[] }) {
  const { me, release } = useHere();
  const go = useNavigate();
  const [devices, setDevices] = useState(device);
  const [named, setNamed] = useState(() => new Set(asked));
  const [reason, setReason] = useState("");
  const [conditions, setConditions] = useState("");
  const [start, setStart] = useState(me.today);
  const [expiry, setExpiry] = useState(plus(me.today, 180));
  const [review, setReview] = useState(plus(me.today, 90));
  const [upTo, setUpTo] = useState(false);
  const [owner, setOwner] = useState(me.name);
  const [taken, setTaken] = useState(false);
  const request = useSend(
    async () => {
      const body = {
        release,
        up_to: upTo,
        requirements: [...named],
        devices: devices.split(/[\s,;]+/).filter(Boolean),
        risk_acknowledged: taken ? me.risk_statement : "",
        reason,
        conditions,
        owner,
        start_on: start,
        expires_on: expiry,
        review_on: review,
      };
      return (await client.POST("/api/v1/exceptions", { body, headers: once() })).data;
    },
    (made) => made && go(`/exceptions/${made.id}`),
  );
  const toggle = (name: string, on: boolean) =>
    setNamed((old) => {
      const next = new Set(old);
      if (on) next.add(name);
      else next.delete(name);
      return next;
    });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    request.mutate();
  };
  return (
    <form onSubmit={submit} className="grid gap-4">
      <Slab title={`What ${device} lacks for ${release}`}>
        <ul className="space-y-2">
          {findings
            .filter((finding) => finding.mark !== "met")
            .map((finding) => (
              <Choice
                key={finding.requirement.id}
                finding={finding}
                on={named.has(finding.requirement.id)}
                set={(on) => toggle(finding.requirement.id, on)}
              />
            ))}
        </ul>
      </Slab>
      <Slab title="The terms">
        <div className="grid gap-4 sm:grid-cols-3">
          <div className="sm:col-span-3">
            <Labelled label="Devices" hint="Separate more than one by commas.">
              <input className="field" required value={devices} onChange={(e) => setDevices(e.target.value)} />
            </Labelled>
          </div>
          <div className="sm:col-span-3">
            <Labelled label="Reason" hint="Why it can be neither fixed nor replaced.">
              <textarea
                className="field"
                rows={2}
                required
                value={reason}
                onChange={(e) => setReason(e.target.value)}
              />
            </Labelled>
          </div>
          <div className="sm:col-span-3">
            <Labelled label="Conditions to keep" hint="Disk encryption, network segment, replacement order.">
              <input className="field" value={conditions} onChange={(e) => setConditions(e.target.value)} />
            </Labelled>
          </div>
          <DayField label="Start" value={start} set={setStart} />
          <DayField label="Expiry" value={expiry} set={setExpiry} />
          <DayField label="Review" value={review} set={setReview} />
          <Labelled label="Owner">
            <input className="field" required value={owner} onChange={(e) => setOwner(e.target.value)} />
          </Labelled>
          <div className="self-end sm:col-span-2">
            <Tick id="up-to" on={upTo} set={setUpTo}>
              Also for the releases before {release}
            </Tick>
          </div>
        </div>
      </Slab>
      <Slab title="The risk">
        <blockquote className="mb-3 border-l-4 border-check pl-3">{me.risk_statement}</blockquote>
        <Tick id="risk" on={taken} set={setTaken}>
          I, {me.display}, acknowledge this statement.
        </Tick>
      </Slab>
      {request.error && <Trouble error={request.error} />}
      <div>
        <Button type="submit" disabled={!taken || named.size === 0 || request.isPending}>
          {request.isPending ? "Asking…" : "Request the exception"}
        </Button>
      </div>
    </form>
  );
}

function Choice({ finding, on, set }: { finding: Finding; on: boolean; set: (on: boolean) => void }) {
  const can = finding.finding === "unmet" && finding.sort === "installer-check";
  return (
    <li className="flex flex-wrap items-center justify-between gap-x-4">
      <Tick id={finding.requirement.id} on={on} set={set} disabled={!can}>
        {finding.requirement.title}
      </Tick>
      <span className="flex items-center gap-2">
        {!can && <span className="text-sm text-ink-2">cannot be excepted</span>}
        <Mark mark={finding.mark} />
      </span>
    </li>
  );
}

function Tick({
  id,
  on,
  set,
  disabled = false,
  children,
}: {
  id: string;
  on: boolean;
  set: (on: boolean) => void;
  disabled?: boolean;
  children: React.ReactNode;
}) {
  return (
    <span className="flex items-center gap-2">
      <Checkbox.Root
        id={id}
        checked={on}
        disabled={disabled}
        onCheckedChange={(next) => set(next === true)}
        className="grid size-5 shrink-0 cursor-pointer place-items-center rounded-sm border-2 border-ink-2 disabled:cursor-not-allowed disabled:opacity-50 data-[state=checked]:border-accent data-[state=checked]:bg-accent data-[state=checked]:text-on-accent"
      >
        <Checkbox.Indicator>
          <svg viewBox="0 0 12 12" className="size-3.5" aria-hidden="true">
            <path d="m2 6 3 3 5-6" fill="none" stroke="currentColor" strokeWidth="2" />
          </svg>
        </Checkbox.Indicator>
      </Checkbox.Root>
      <label htmlFor={id}>{children}</label>
    </span>
  );
}

function DayField({ label, value, set }: { label: string; value: string; set: (value: string) => void }) {
  return (
    <Labelled label={label}>
      <input className="field" type="date" required value={value} onChange={(event) => set(event.target.value)} />
    </Labelled>
  );
}
