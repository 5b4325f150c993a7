// Records from a file: tried out first, every row and everything wrong shown, then recorded all or none.
import { useState } from "react";
import { client, once, type RecordedRows, type RecordKind, useSend } from "../../api/api";
import { FileField, RECORDS, textOf } from "../../ui/file-field";
import { Button, Choice, count, ErrorMessage, Panel, Scroll } from "../../ui/parts";
import { formOf } from "./forms";

const KINDS: Record<RecordKind, [words: string, columns: string]> = {
  attempts: ["Attempts", "device, kit, outcome, started_at, ended_at, refused_by, seen, media, tool_version"],
  observations: ["Observations of updates", "device, seen_on, update_class, result, reason, source, detail"],
  fixes: ["Fixes done", "device, title, outcome, done_at, note"],
  lives: ["Lives of devices", "device, life, reason, on, look_on, wiped_by, replaced_by"],
  settlements: ["Settlements of disputes", "device, kind, subject, value, reason"],
  "follow-ups": ["Follow-ups", "device, step, state, answer, reason, confirm"],
};
const isKind = (name: string): name is RecordKind => name in KINDS;
const MOST_SHOWN = 200;

export function RecordFiles() {
  const [kind, setKind] = useState<RecordKind>("attempts");
  const [file, setFile] = useState<File | null>(null);
  const [mapping, setMapping] = useState<File | null>(null);
  const [tried, setTried] = useState<RecordedRows | null>(null);
  const [done, setDone] = useState<RecordedRows | null>(null);
  const forget = () => {
    setTried(null);
    setDone(null);
    send.reset();
  };
  const send = useSend(
    async (dry: boolean) => {
      if (!file) return null;
      const body = { form: formOf(file.name), text: await textOf(file), mapping: mapping ? await textOf(mapping) : "" };
      const params = { path: { kind }, query: { dry_run: dry } };
      const { data } = await client.POST("/api/v1/records/{kind}", { params, body, headers: dry ? {} : once() });
      return data ? { data, dry } : null;
    },
    (made) => {
      setTried(made?.dry ? made.data : null);
      setDone(made && !made.dry ? made.data : null);
    },
  );
  const choose = (set: (file: File | null) => void) => (chosen: File | null) => {
    forget();
    set(chosen);
  };
  const [, columns] = KINDS[kind];
  return (
    <Panel title="Records from a file">
      <div className="grid gap-3 sm:grid-cols-2">
        <Choice
          label="What the rows are"
          value={kind}
          needed
          set={(name) => {
            forget();
            if (isKind(name)) setKind(name);
          }}
          of={Object.entries(KINDS).map(([name, [words]]) => [name, words])}
        />
        <FileField label="File of records" hint={`Columns: ${columns}.`} accept={RECORDS} set={choose(setFile)} />
        <FileField
          label="Mapping of its columns, if they are foreign"
          hint="A .toml file that says what each column is."
          accept=".toml"
          set={choose(setMapping)}
        />
        <div className="flex items-end gap-2">
          <Button quiet disabled={!file || send.isPending} onClick={() => send.mutate(true)}>
            Try the records out
          </Button>
          <Button disabled={!tried || send.isPending} onClick={() => send.mutate(false)}>
            {tried ? `Record ${count(tried.recorded, "row")}` : "Record"}
          </Button>
        </div>
      </div>
      {send.error && (
        <div className="mt-3">
          <ErrorMessage error={send.error} />
        </div>
      )}
      {tried && <Rows rows={tried} words="would be recorded" />}
      {done && <Rows rows={done} words="recorded" />}
    </Panel>
  );
}

function Rows({ rows, words }: { rows: RecordedRows; words: string }) {
  const shown = rows.items.slice(0, MOST_SHOWN);
  return (
    <div className="mt-3">
      <p role="status" className="mb-2 font-semibold">
        {count(rows.recorded, "row")} {words}
        {rows.known > 0 && `, ${rows.known} known already`}.
      </p>
      <Scroll label="Rows of the file">
        <table className="w-full min-w-[30rem]">
          <thead>
            <tr className="[&>th]:px-3 [&>th]:py-2">
              <th scope="col">Row</th>
              <th scope="col">Device</th>
              <th scope="col">What</th>
            </tr>
          </thead>
          <tbody>
            {shown.map((one) => (
              <tr key={one.line}>
                <td className="cell">{one.line}</td>
                <td className="cell">{one.device}</td>
                <td className="cell">{one.words}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
      {rows.items.length > MOST_SHOWN && <p className="mt-2 text-ink-2">And {rows.items.length - MOST_SHOWN} more.</p>}
    </div>
  );
}
