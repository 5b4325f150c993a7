// A vendor's list as it comes: matched, what is only near decided, its impact seen, then loaded.
import { useState } from "react";
import { api, client, useSend } from "../../api/api";
import { useHere } from "../../frame/here";
import { FileField, textOf } from "../../ui/file-field";
import { Button, Choice, count, ErrorMessage, Labelled, Panel, Scroll } from "../../ui/parts";
import { Shows } from "./impact";

const MATCHES = {
  same: "the same",
  "by-rule": "the same by the rules",
  remembered: "as decided before",
  near: "only near",
  new: "new",
} as const;

const formOf = (name: string) =>
  name.toLowerCase().endsWith(".csv")
    ? ("csv" as const)
    : /\.(tsv|tab)$/i.test(name)
      ? ("tsv" as const)
      : ("lines" as const);

export function VendorList() {
  const { platform } = useHere();
  const lists = api.useQuery("get", "/api/v1/platforms/{platform}/lists", {
    params: { path: { platform: platform.id } },
  });
  const [name, setName] = useState("");
  const [file, setFile] = useState<File | null>(null);
  const [column, setColumn] = useState("");
  const [words, setWords] = useState("");
  const [decided, setDecided] = useState<Record<string, string>>({});
  const asked = async (seen: number | null) => {
    if (!file) throw new Error("no file");
    const taken = words.split(",").map((word) => word.trim());
    const affixes = taken.filter(Boolean);
    return {
      text: await textOf(file),
      form: formOf(file.name),
      column,
      rules: { case: true, spaces: true, marks: true, prefixes: affixes, suffixes: affixes },
      same: Object.fromEntries(Object.entries(decided).filter(([raw, one]) => one && raw !== one)),
      other: Object.entries(decided)
        .filter(([raw, one]) => raw === one)
        .map(([raw]) => raw),
      seen,
    };
  };
  const params = { path: { platform: platform.id, name } };
  const look = useSend(
    async () =>
      (await client.POST("/api/v1/platforms/{platform}/lists/{name}/match", { params, body: await asked(null) })).data,
  );
  const load = useSend(
    async (seen: number) =>
      (await client.PUT("/api/v1/platforms/{platform}/lists/{name}", { params, body: await asked(seen) })).data,
  );
  const found = look.data;
  if (!lists.data?.items.length) return null;
  const forget = () => {
    look.reset();
    load.reset();
  };
  return (
    <Panel title="A vendor's list, as it comes">
      <div className="grid gap-3 sm:grid-cols-2">
        <Choice
          label="The list beside the sheet"
          value={name}
          nothing="choose"
          set={(value) => {
            forget();
            setName(value);
          }}
          of={lists.data.items.map((one) => [one, one])}
        />
        <FileField
          label="The vendor's list"
          hint="Plain lines, or a table that ends in .csv or .tsv."
          accept=".csv,.tsv,.tab,.txt"
          set={(chosen) => {
            forget();
            setDecided({});
            setFile(chosen);
          }}
        />
        <Labelled label="Column of the names" hint="Of a table with several columns.">
          <input className="field" value={column} onChange={(event) => setColumn(event.target.value)} />
        </Labelled>
        <Labelled label="Words to take off" hint="Before or after a name, parted by commas.">
          <input className="field" value={words} onChange={(event) => setWords(event.target.value)} />
        </Labelled>
      </div>
      <div className="mt-3 flex gap-2">
        <Button quiet disabled={!file || !name || look.isPending} onClick={() => look.mutate()}>
          Match it
        </Button>
        <Button
          disabled={!found || found.undecided > 0 || !found.impact.changed || load.isPending}
          onClick={() => found && load.mutate(found.revision)}
        >
          {found ? `Load it as revision ${found.revision + 1}` : "Load it"}
        </Button>
      </div>
      {(look.error ?? load.error) != null && (
        <div className="mt-3">
          <ErrorMessage error={look.error ?? load.error} />
        </div>
      )}
      {load.data && (
        <p role="status" className="mt-3 font-semibold text-met">
          {load.data.platform}, revision {load.data.revision} is loaded.
        </p>
      )}
      {found && !load.data && (
        <div className="mt-3 grid gap-3">
          <p role="status">
            {count(found.same, "name")} the same to the letter, {found.added.length} added, {found.dropped.length}{" "}
            dropped, {found.renamed.length} of these renamed.
            {found.undecided > 0 && (
              <strong className="text-open">
                {" "}
                Say of {count(found.undecided, "name")} what it is, and match again.
              </strong>
            )}
          </p>
          <Scroll label="Names of the list">
            <table className="w-full min-w-[34rem]">
              <thead>
                <tr className="[&>th]:px-3 [&>th]:py-2">
                  <th scope="col">The vendor writes</th>
                  <th scope="col">It is</th>
                  <th scope="col">Stands for</th>
                </tr>
              </thead>
              <tbody>
                {found.names.map((one) => (
                  <tr key={`${one.raw}${one.name}`}>
                    <td className="cell">{one.raw}</td>
                    <td className="cell">{MATCHES[one.match]}</td>
                    <td className="cell">
                      {one.match === "near" ? (
                        <select
                          className="field"
                          aria-label={`What ${one.raw} is`}
                          value={decided[one.raw] ?? ""}
                          onChange={(event) => setDecided({ ...decided, [one.raw]: event.target.value })}
                        >
                          <option value="">choose</option>
                          {one.near.map((near) => (
                            <option key={near} value={near}>
                              it is {near}
                            </option>
                          ))}
                          <option value={one.raw}>a name of its own</option>
                        </select>
                      ) : (
                        one.name
                      )}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Scroll>
          <Shows impact={found.impact} />
        </div>
      )}
    </Panel>
  );
}
