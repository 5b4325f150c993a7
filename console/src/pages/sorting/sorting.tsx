import { Collapsible } from "radix-ui";
import { type FormEvent, useState } from "react";
import { api, client, once, type SortingRow, useSend } from "../../api/api";
import { allows, useHere } from "../../frame/here";
import { MarkBar } from "../../ui/bars";
import { Mark } from "../../ui/mark";
import { Button, count, day, ErrorMessage, Heading, Labelled, Loaded, PageLink, useParam } from "../../ui/parts";
import { FailureMessages } from "../readings/failure-messages";

const EVIDENCE = ["vendor-statement", "trial", "attempt", "report"] as const;
const SORTS = ["installer-check", "floor", "unsorted"] as const;

export function SortingPage() {
  const { platform, release } = useHere();
  const found = api.useQuery("get", "/api/v1/sorting", { params: { query: { platform: platform.id, release } } });
  return (
    <>
      <Heading title="Sorting">
        What {release} asks, and whether each is a floor that no setting moves or a check that only set-up makes.
      </Heading>
      <Loaded of={found} what="the requirements">
        {(data) => (
          <ul className="space-y-3">
            {data.items.map((row) => (
              <Row key={row.requirement} row={row} />
            ))}
          </ul>
        )}
      </Loaded>
      <FailureMessages />
    </>
  );
}

function Row({ row }: { row: SortingRow }) {
  const { me } = useHere();
  const [open, setOpen] = useParam("open");
  const unmet = Object.entries(row.marks).reduce((sum, [mark, n]) => sum + (mark === "met" ? 0 : n), 0);
  return (
    <li className="slab">
      <Collapsible.Root open={open === row.requirement} onOpenChange={(next) => setOpen(next ? row.requirement : "")}>
        <div className="grid items-center gap-x-4 gap-y-1 sm:grid-cols-[1fr_10rem_9rem_auto]">
          <h2 className="text-lg">{row.title}</h2>
          <Mark mark={row.sort} />
          <PageLink to={`/devices?requirement=${row.requirement}`}>{count(unmet, "device")} without</PageLink>
          <Collapsible.Trigger className="cursor-pointer rounded-md border border-ink-2 px-3 py-1 font-semibold hover:bg-slab-2">
            {open === row.requirement ? "Less" : "More"}
            <span className="sr-only"> about {row.title}</span>
          </Collapsible.Trigger>
        </div>
        <div className="mt-2">
          <MarkBar marks={row.marks} />
        </div>
        {row.reported && <p className="mt-2 text-open">Known only from failure messages; nobody has measured it.</p>}
        {row.against && <p className="mt-2 font-semibold text-floor">Evidence against it: {row.against}.</p>}
        <Collapsible.Content className="mt-3 grid gap-4 lg:grid-cols-2">
          <Evidence row={row} />
          {allows(me, "decide") ? (
            <Decide row={row} />
          ) : (
            <p className="text-ink-2">An administrator decides how it is sorted.</p>
          )}
        </Collapsible.Content>
      </Collapsible.Root>
    </li>
  );
}

function Evidence({ row }: { row: SortingRow }) {
  return (
    <div className="space-y-2">
      <p>
        Asks for <code>{row.condition}</code>.
      </p>
      <p className="text-ink-2">{row.because}</p>
      <p>
        Sorted by {row.sorted_by}; enforced by {row.enforced_at.join(", ")}.
      </p>
      <p>
        From attempts: {count(row.ran, "device")} ran without it, set-up refused {row.refused}, {row.failed_to_start}{" "}
        failed to start.
      </p>
      {row.tallies.length > 1 && (
        <ul className="text-sm text-ink-2">
          {row.tallies.map((tally) => (
            <li key={tally.model}>
              {tally.model}: ran {tally.ran}, refused {tally.refused}, failed to start {tally.failed_to_start}
            </li>
          ))}
        </ul>
      )}
      {row.decisions.length > 0 && (
        <ul className="space-y-2">
          {row.decisions.map((decision) => (
            <OneDecision key={decision.id} decision={decision} />
          ))}
        </ul>
      )}
    </div>
  );
}

function OneDecision({ decision }: { decision: SortingRow["decisions"][number] }) {
  const { me } = useHere();
  const [note, setNote] = useState("");
  const withdraw = useSend(async () => {
    const params = { path: { decision: decision.id } };
    await client.POST("/api/v1/decisions/{decision}/withdrawal", { params, body: { note } });
  });
  const gone = decision.withdrawn_at !== null;
  return (
    <li>
      <span className={gone ? "text-ink-2 line-through" : ""}>
        <strong>{decision.id}</strong> {decision.sort} for {decision.scope} {decision.target}, {decision.by} on{" "}
        {day(decision.at)}, {decision.evidence}: {decision.note}
      </span>{" "}
      {decision.link && <a href={decision.link}>the evidence</a>}
      {gone && (
        <span className="block text-sm">
          Withdrawn by {decision.withdrawn_by} on {day(decision.withdrawn_at)}: {decision.withdrawn_note}
        </span>
      )}
      {!gone && allows(me, "withdraw_decision") && (
        <details className="text-sm">
          <summary className="cursor-pointer text-ink-2">Withdraw</summary>
          <form
            className="mt-1 flex flex-wrap items-end gap-2"
            onSubmit={(event) => {
              event.preventDefault();
              withdraw.mutate();
            }}
          >
            <Labelled label="Why does it no longer hold?">
              <input className="field" required value={note} onChange={(event) => setNote(event.target.value)} />
            </Labelled>
            <Button quiet type="submit" disabled={withdraw.isPending}>
              Withdraw {decision.id}
            </Button>
          </form>
          {withdraw.error && <ErrorMessage error={withdraw.error} />}
        </details>
      )}
    </li>
  );
}

function Decide({ row }: { row: SortingRow }) {
  const { platform, release } = useHere();
  const [sort, setSort] = useState<(typeof SORTS)[number]>(row.sort);
  const [model, setModel] = useState("");
  const [evidence, setEvidence] = useState<(typeof EVIDENCE)[number]>("trial");
  const [note, setNote] = useState("");
  const [link, setLink] = useState("");
  const decide = useSend(
    async () => {
      const scope: "model" | "release" = model ? "model" : "release";
      const body = {
        platform: platform.id,
        requirement: row.requirement,
        release,
        scope,
        target: model,
        sort,
        evidence,
        note,
        link,
      };
      await client.POST("/api/v1/decisions", { body, headers: once() });
    },
    () => setNote(""),
  );
  const submit = (event: FormEvent) => {
    event.preventDefault();
    decide.mutate();
  };
  return (
    <form onSubmit={submit} className="grid gap-3 sm:grid-cols-2">
      <Labelled label="It is">
        <select className="field" value={sort} onChange={(e) => setSort(e.target.value as typeof sort)}>
          {SORTS.map((name) => (
            <option key={name}>{name}</option>
          ))}
        </select>
      </Labelled>
      <Labelled label="Evidence">
        <select className="field" value={evidence} onChange={(e) => setEvidence(e.target.value as typeof evidence)}>
          {EVIDENCE.map((name) => (
            <option key={name}>{name}</option>
          ))}
        </select>
      </Labelled>
      <Labelled label="Only for the model" hint="Leave empty for the whole release.">
        <input className="field" value={model} onChange={(e) => setModel(e.target.value)} />
      </Labelled>
      <Labelled label="Note">
        <input className="field" required value={note} onChange={(e) => setNote(e.target.value)} />
      </Labelled>
      <Labelled label="Link to the evidence">
        <input className="field" type="url" value={link} onChange={(e) => setLink(e.target.value)} />
      </Labelled>
      <div className="sm:col-span-2">
        <Button type="submit" disabled={decide.isPending}>
          {decide.isPending ? "Writing…" : "Decide"}
        </Button>
      </div>
      {decide.error && (
        <div className="sm:col-span-2">
          <ErrorMessage error={decide.error} />
        </div>
      )}
    </form>
  );
}
