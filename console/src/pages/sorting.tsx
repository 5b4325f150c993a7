import { Collapsible } from "radix-ui";
import { type FormEvent, useState } from "react";
import { api, client, once, type SortingRow, useSend } from "../api/api";
import { useHere } from "../frame";
import { MarkBar } from "../ui/bars";
import { Mark } from "../ui/mark";
import { Button, count, day, Go, Heading, Labelled, Shown, Trouble, useParam } from "../ui/parts";

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
      <Shown of={found} what="the requirements">
        {(data) => (
          <ul className="space-y-3">
            {data.items.map((row) => (
              <Row key={row.requirement} row={row} />
            ))}
          </ul>
        )}
      </Shown>
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
          <Go to={`/devices?requirement=${row.requirement}`}>{count(unmet, "device")} without</Go>
          <Collapsible.Trigger className="cursor-pointer rounded-md border border-ink-2 px-3 py-1 font-semibold hover:bg-slab-2">
            {open === row.requirement ? "Less" : "More"}
            <span className="sr-only"> about {row.title}</span>
          </Collapsible.Trigger>
        </div>
        <div className="mt-2">
          <MarkBar marks={row.marks} />
        </div>
        {row.against && <p className="mt-2 font-semibold text-floor">Evidence against it: {row.against}.</p>}
        <Collapsible.Content className="mt-3 grid gap-4 lg:grid-cols-2">
          <Evidence row={row} />
          {me.role === "administrator" ? (
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
      {row.decisions.length > 0 && (
        <ul className="space-y-1">
          {row.decisions.map((decision) => (
            <li key={decision.id}>
              <strong>{decision.id}</strong> {decision.sort} for {decision.scope} {decision.target}, {decision.by} on{" "}
              {day(decision.at)}: {decision.note}
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}

function Decide({ row }: { row: SortingRow }) {
  const { platform, release } = useHere();
  const [sort, setSort] = useState<(typeof SORTS)[number]>(row.sort);
  const [model, setModel] = useState("");
  const [evidence, setEvidence] = useState<(typeof EVIDENCE)[number]>("trial");
  const [note, setNote] = useState("");
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
      <div className="sm:col-span-2">
        <Button type="submit" disabled={decide.isPending}>
          {decide.isPending ? "Writing…" : "Decide"}
        </Button>
      </div>
      {decide.error && (
        <div className="sm:col-span-2">
          <Trouble error={decide.error} />
        </div>
      )}
    </form>
  );
}
