// Asking for an exception: for one device, several, a saved selection, or to renew one that is about to end.
import { addDays, formatISO, parseISO } from "date-fns";
import { Checkbox } from "radix-ui";
import { type FormEvent, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, client, type Exception, type Finding, once, useSend } from "../../api/api";
import type { components } from "../../api/schema";
import { useHere } from "../../frame/here";
import { type AskedCondition, ConditionFields } from "../../ui/conditions";
import { Mark } from "../../ui/mark";
import { Button, Choice, count, Empty, ErrorMessage, Heading, Labelled, Loaded, Panel, useParam } from "../../ui/parts";

const plus = (iso: string, days: number) => formatISO(addDays(parseISO(iso), days), { representation: "date" });

/** What the form starts from. */
type Start = {
  devices: string;
  selection: string;
  choices: { id: string; title: string; mark: string; can: boolean }[];
  named: string[];
  old: Exception | null;
};

export function RequestPage() {
  const [params] = useSearchParams();
  const device = params.get("device") ?? "";
  const renews = params.get("renews") ?? "";
  const chosen = params.has("selection");
  return (
    <>
      <Heading title={renews ? `Renew ${renews}` : "Request an exception"}>
        Only installer checks can be excepted. Somebody else decides.
      </Heading>
      {renews ? (
        <Renewal name={renews} />
      ) : device ? (
        <OfDevice device={device} asked={params.getAll("requirement")} />
      ) : chosen ? (
        <OfSelection selection={params.get("selection") ?? ""} />
      ) : (
        <Empty>Start from a device that needs one.</Empty>
      )}
    </>
  );
}

function OfDevice({ device, asked }: { device: string; asked: string[] }) {
  const { release } = useHere();
  const path = { path: { device }, query: { release } };
  const found = api.useQuery("get", "/api/v1/devices/{device}/assessment", { params: path });
  const choice = (one: Finding) => ({
    id: one.requirement.id,
    title: one.requirement.title,
    mark: one.mark,
    can: one.finding === "unmet" && one.sort === "installer-check",
  });
  return (
    <Loaded of={found} what="the findings">
      {(data) => {
        const choices = data.findings.filter((one) => one.mark !== "met").map(choice);
        const start = { devices: device, selection: "", choices, named: asked, old: null };
        return <Form key={device} start={start} title={`What ${device} lacks for ${release}`} />;
      }}
    </Loaded>
  );
}

function OfSelection({ selection }: { selection: string }) {
  const { platform, release } = useHere();
  const found = api.useQuery("get", "/api/v1/sorting", { params: { query: { platform: platform.id, release } } });
  return (
    <Loaded of={found} what="the requirements">
      {(data) => {
        const choices = data.items
          .filter((row) => row.sort === "installer-check")
          .map((row) => ({ id: row.requirement, title: row.title, mark: "installer-check", can: true }));
        const start = { devices: "", selection, choices, named: [], old: null };
        return <Form start={start} title={`Installer checks of ${release}`} />;
      }}
    </Loaded>
  );
}

function Renewal({ name }: { name: string }) {
  const found = api.useQuery("get", "/api/v1/exceptions/{exception}", { params: { path: { exception: name } } });
  return (
    <Loaded of={found} what={name}>
      {(old) => {
        const choices = old.requirements.map((id) => ({ id, title: id, mark: "installer-check", can: true }));
        const start = { devices: old.devices.join(", "), selection: "", choices, named: old.requirements, old };
        return <Form key={name} start={start} title="What it permits" />;
      }}
    </Loaded>
  );
}

function useTerms(old: Exception | null) {
  const { me } = useHere();
  const first = old ? plus(old.expires_on, 1) : me.today;
  const [terms, setTerms] = useState({
    reason: "",
    owner: old?.owner ?? me.name,
    start_on: first,
    expires_on: plus(first, 180),
    review_on: plus(first, 90),
  });
  const [conditions, setConditions] = useState<AskedCondition[]>(() =>
    (old?.conditions ?? []).map((one) => ({
      text: one.text,
      fact_condition: one.fact_condition,
      due_on: null,
      every_days: one.every_days,
    })),
  );
  return { terms, setTerms, conditions, setConditions };
}

function Form({ start, title }: { start: Start; title: string }) {
  const { me, platform, release: towards } = useHere();
  const release = start.old?.release ?? towards;
  const go = useNavigate();
  const [devices, setDevices] = useState(start.devices);
  const [selection, setSelection] = useState(start.selection);
  const [named, setNamed] = useState(() => new Set(start.named));
  const { terms, setTerms, conditions, setConditions } = useTerms(start.old);
  const [upTo, setUpTo] = useState(start.old?.up_to ?? false);
  const [goOn, setGoOn] = useState(false);
  const [taken, setTaken] = useState(false);
  const [kept, keep] = useParam("way");
  const [way, setWay] = useState(kept);
  const many = start.devices === "" && start.old === null;
  const each = many && way !== "same";
  const choose = (value: string) => {
    setWay(value);
    keep(value);
  };
  const risk = api.useQuery("get", "/api/v1/risk", { params: { query: { platform: platform.id, release } } });
  const selections = api.useQuery("get", "/api/v1/selections");
  const body = () => ({
    ...terms,
    conditions,
    release,
    platform: selection ? platform.id : "",
    up_to: upTo,
    requirements: [...named],
    devices: devices.split(/[\s,;]+/).filter(Boolean),
    selection,
    go_on: goOn,
    renews: start.old?.id ?? "",
    risk_acknowledged: taken ? (risk.data?.text ?? "") : "",
    notice_acknowledged: taken ? (risk.data?.notice ?? "") : "",
    attachments: [],
  });
  const check = useSend(async () => (await client.POST("/api/v1/exceptions/check", { body: body() })).data);
  const preview = useSend(async () => {
    const seen = { risk_acknowledged: risk.data?.text ?? "", notice_acknowledged: risk.data?.notice ?? "" };
    const asked = { ...body(), ...seen, reason: terms.reason || "Looked at before the reason is written." };
    return (await client.POST("/api/v1/exceptions/each", { params: { query: { dry_run: true } }, body: asked })).data;
  });
  const request = useSend(
    async () => {
      const sent = { body: body(), headers: once() };
      if (each) return (await client.POST("/api/v1/exceptions/each", sent)).data && "/exceptions?state=requested";
      const made = (await client.POST("/api/v1/exceptions", sent)).data;
      return made && `/exceptions/${made.id}`;
    },
    (made) => made && go(made),
  );
  const toggle = (name: string, on: boolean) => {
    check.reset();
    preview.reset();
    setNamed((old) => {
      const next = new Set(old);
      if (on) next.add(name);
      else next.delete(name);
      return next;
    });
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    request.mutate();
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
  const saved = (selections.data?.items ?? []).filter((one) => one.platform === platform.id);
  return (
    <form onSubmit={submit} className="grid gap-4">
      <Panel title={title}>
        {many && (
          <fieldset className="mb-3 flex flex-wrap gap-x-6 gap-y-1">
            <legend className="sr-only">What is requested</legend>
            {(
              [
                ["", "What each device needs: one exception for each distinct set of needs"],
                ["same", "The same requirements for all, as ticked"],
              ] as const
            ).map(([value, words]) => (
              <label key={value} className="flex items-center gap-2">
                <input type="radio" name="way" checked={way === value} onChange={() => choose(value)} />
                {words}
              </label>
            ))}
          </fieldset>
        )}
        {each && (
          <p className="mb-2 text-ink-2">Ticked ones limit it to these; with none ticked, whatever a device needs.</p>
        )}
        <ul className="space-y-2">
          {start.choices.map((one) => (
            <Need key={one.id} one={one} on={named.has(one.id)} set={(on) => toggle(one.id, on)} />
          ))}
        </ul>
      </Panel>
      <Panel title="The devices">
        <div className="grid items-start gap-4 sm:grid-cols-[1fr_15rem_auto]">
          <Labelled label="Devices" hint="Separate more than one by commas.">
            <input
              className="field"
              required={!selection}
              value={devices}
              onChange={(event) => setDevices(event.target.value)}
            />
          </Labelled>
          <Choice
            label="And a saved selection"
            value={selection}
            set={setSelection}
            of={saved.map((one) => [one.name, one.name] as const)}
            nothing="none"
          />
          <Button
            quiet
            className="sm:mt-7"
            disabled={each ? preview.isPending || !risk.data : named.size === 0 || check.isPending}
            onClick={() => (each ? preview.mutate() : check.mutate())}
          >
            {check.isPending || preview.isPending
              ? "Looking…"
              : each
                ? "What would be requested?"
                : "Who could have it?"}
          </Button>
        </div>
        {!each && check.error && <ErrorMessage error={check.error} />}
        {!each && check.data && (
          <div role="status" className="mt-3">
            <p>
              <strong>{count(check.data.devices.length, "device")}</strong> could have it
              {check.data.devices.length > 0 && `: ${check.data.devices.slice(0, 12).join(", ")}`}
              {check.data.devices.length > 12 && ", …"}.
            </p>
            {check.data.refused.length + check.data.terms.length > 0 && (
              <ul className="mt-1 max-h-64 overflow-y-auto text-sm">
                {[...check.data.refused, ...check.data.terms].map((entry) => (
                  <li key={entry.pointer}>
                    <strong>{entry.pointer}</strong>: {entry.detail}. {entry.hint}.
                  </li>
                ))}
              </ul>
            )}
          </div>
        )}
        {each && preview.error && <ErrorMessage error={preview.error} />}
        {each && preview.data && <Preview data={preview.data} />}
        {!each && (
          <div className="mt-3">
            <CheckboxField id="go-on" on={goOn} set={setGoOn}>
              Leave out the devices that cannot have it, and ask for the rest
            </CheckboxField>
          </div>
        )}
      </Panel>
      <Panel title="The terms">
        <div className="grid gap-4 sm:grid-cols-3">
          <div className="sm:col-span-3">
            <Labelled label="Reason" hint="Why it can be neither fixed nor replaced.">
              <textarea
                className="field"
                rows={2}
                required
                value={terms.reason}
                onChange={(event) => setTerms({ ...terms, reason: event.target.value })}
              />
            </Labelled>
          </div>
          <div className="sm:col-span-3">
            <ConditionFields of={conditions} set={setConditions} />
          </div>
          {field("start_on", "Start", "date")}
          {field("expires_on", "Expiry", "date")}
          {field("review_on", "Review", "date")}
          {field("owner", "Owner")}
          <div className="self-end sm:col-span-2">
            <CheckboxField id="up-to" on={upTo} set={setUpTo}>
              Also for the releases before {release}
            </CheckboxField>
          </div>
        </div>
      </Panel>
      <Panel title="The risk">
        <Loaded of={risk} what="the statement">
          {(data) => (
            <>
              <blockquote className="mb-3 border-l-4 border-check pl-3">{data.text}</blockquote>
              {data.notice && (
                <>
                  <p className="mb-1 text-ink-2">Set-up will show this notice of the vendor's, to be accepted:</p>
                  <blockquote className="mb-3 border-l-4 border-check pl-3">{data.notice}</blockquote>
                </>
              )}
              <CheckboxField id="risk" on={taken} set={setTaken}>
                I, {me.display}, acknowledge {data.notice ? "both word for word" : "this statement"}.
              </CheckboxField>
            </>
          )}
        </Loaded>
      </Panel>
      {request.error && <ErrorMessage error={request.error} />}
      <div>
        <Button type="submit" disabled={!taken || (!each && named.size === 0) || request.isPending}>
          {request.isPending ? "Asking…" : each ? "Request the exceptions" : "Request the exception"}
        </Button>
      </div>
    </form>
  );
}

/** What a request in bulk would make: a row per exception, then the devices for which there is none. */
function Preview({ data }: { data: components["schemas"]["ExceptionBatchResponse"] }) {
  return (
    <div role="status" className="mt-3 grid gap-3">
      <p>
        <strong>{count(data.groups.length, "exception")}</strong> would be requested for{" "}
        {count(
          data.groups.reduce((sum, one) => sum + one.devices.length, 0),
          "device",
        )}
        , none for {data.refused.length}.
      </p>
      <ul className="max-h-72 space-y-1 overflow-y-auto">
        {data.groups.map((one) => (
          <li key={one.requirements.join()}>
            <strong>{one.requirements.join(", ")}</strong>: {one.devices.join(", ")}
          </li>
        ))}
      </ul>
      {data.refused.length > 0 && (
        <ul className="max-h-64 overflow-y-auto text-sm">
          {data.refused.map((entry) => (
            <li key={entry.pointer}>
              <strong>{entry.pointer}</strong>: {entry.detail}. {entry.hint}.
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}

function Need({ one, on, set }: { one: Start["choices"][number]; on: boolean; set: (on: boolean) => void }) {
  return (
    <li className="flex flex-wrap items-center justify-between gap-x-4">
      <CheckboxField id={one.id} on={on} set={set} disabled={!one.can}>
        {one.title}
      </CheckboxField>
      <span className="flex items-center gap-2">
        {!one.can && <span className="text-sm text-ink-2">cannot be excepted</span>}
        <Mark mark={one.mark} />
      </span>
    </li>
  );
}

function CheckboxField({
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
