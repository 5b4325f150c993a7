// Bringing readings in: a file is sent, checked while one watches, and taken over or refused as a whole.
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, client, type Import, once, useSend } from "../../api/api";
import { allows, useHere } from "../../frame/here";
import { ProgressBar } from "../../ui/bars";
import { FileField, RECORDS, textOf } from "../../ui/file-field";
import {
  Button,
  CheckboxField,
  count,
  day,
  Empty,
  ErrorMessage,
  Heading,
  Loaded,
  PageLink,
  Panel,
  Scroll,
  useParam,
} from "../../ui/parts";
import { formOf } from "./forms";
import { RecordFiles } from "./record-files";

export function IntakePage() {
  const { me } = useHere();
  const [watched, watch] = useParam("import");
  const hands = allows(me, "begin_import");
  return (
    <>
      <Heading title="Readings">What sources report about devices: checked to the end, then taken over.</Heading>
      <div className="grid gap-4">
        {hands ? <Bring begun={watch} /> : <Empty>A technician or an administrator imports readings.</Empty>}
        {watched && <Watched key={watched} name={watched} hands={hands} />}
        <Imports />
        {allows(me, "record_file") && <RecordFiles />}
        <Sources />
      </div>
    </>
  );
}

function Bring({ begun }: { begun: (name: string) => void }) {
  const [file, setFile] = useState<File | null>(null);
  const [mapping, setMapping] = useState<File | null>(null);
  const [dry, setDry] = useState(false);
  const [skip, setSkip] = useState(false);
  const send = useSend(async (chosen: File) => {
    const form = formOf(chosen.name);
    const words = mapping ? await textOf(mapping) : "";
    const body = { form, name: chosen.name, dry, skip, mapping: words };
    await textOf(chosen, chosen.slice(0, 1)); // before an import is begun for it
    const made = (await client.POST("/api/v1/imports", { body, headers: once() })).data;
    if (!made) return;
    begun(made.id);
    await client.PUT("/api/v1/imports/{name}/file", {
      params: { path: { name: made.id } },
      body: chosen as unknown as string,
      bodySerializer: (given) => given as unknown as Blob,
      headers: { "Content-Type": "application/octet-stream" },
    });
  });
  const choose = (set: (file: File | null) => void) => (chosen: File | null) => {
    send.reset();
    set(chosen);
  };
  return (
    <Panel title="Import readings">
      <div className="grid gap-3 sm:grid-cols-2">
        <FileField
          label="File of readings"
          hint="NDJSON, JSON, or a table that ends in .csv or .tsv."
          accept={RECORDS}
          set={choose(setFile)}
        />
        <FileField
          label="Mapping, if its columns are foreign"
          hint="A .toml file that says what each column is."
          accept=".toml"
          set={choose(setMapping)}
        />
        <CheckboxField label="Only say what would change" checked={dry} set={setDry} />
        <CheckboxField label="Leave bad lines out instead of refusing the file" checked={skip} set={setSkip} />
        <div className="sm:col-span-2">
          <Button disabled={!file || send.isPending} onClick={() => file && send.mutate(file)}>
            {send.isPending ? "Sending…" : dry ? "Try it out" : "Import"}
          </Button>
        </div>
        {send.error && (
          <div className="sm:col-span-2">
            <ErrorMessage error={send.error} />
          </div>
        )}
      </div>
    </Panel>
  );
}

const STAGES: Record<Import["state"], string> = {
  waiting: "waits for its file",
  received: "waits for its turn",
  checking: "is being checked",
  applying: "is being taken over",
  done: "is done",
  refused: "is refused",
  cancelled: "is cancelled",
  failed: "has failed",
};

/** One import as it goes, by server-sent events. */
function useWatched(name: string): { found: Import | null; error: boolean } {
  const [found, setFound] = useState<Import | null>(null);
  const [error, setError] = useState(false);
  const cache = useQueryClient();
  useEffect(() => {
    const events = new EventSource(`/api/v1/imports/${encodeURIComponent(name)}/events`);
    events.addEventListener("progress", (event) => {
      const now = JSON.parse((event as MessageEvent<string>).data) as Import;
      setFound(now);
      setError(false);
      if (now.ended) {
        events.close();
        cache.invalidateQueries();
      }
    });
    // Where too many watch, the import itself is asked for from time to time.
    let again: ReturnType<typeof setTimeout> | undefined;
    const ask = async () => {
      const { data } = await client.GET("/api/v1/imports/{name}", { params: { path: { name } } });
      if (!data) return;
      setFound(data);
      setError(false);
      if (data.ended) cache.invalidateQueries();
      else again = setTimeout(() => ask().catch(() => setError(true)), 2_000);
    };
    events.onerror = () => {
      if (events.readyState === EventSource.CLOSED) ask().catch(() => setError(true));
      else setError(true);
    };
    return () => {
      events.close();
      clearTimeout(again);
    };
  }, [name, cache]);
  return { found, error };
}

function Watched({ name, hands }: { name: string; hands: boolean }) {
  const { found, error } = useWatched(name);
  const cancel = useSend(async () => {
    await client.DELETE("/api/v1/imports/{name}", { params: { path: { name } } });
  });
  if (!found) return error ? <Empty>There is no import {name}, or the service does not answer.</Empty> : null;
  const good = found.state === "done";
  return (
    <Panel title={`${name}: ${found.name || found.form}`}>
      <p role="status" className={`font-semibold ${found.ended ? (good ? "text-met" : "text-floor") : ""}`}>
        {name} {STAGES[found.state]}
        {good && !found.dry && (
          <>
            : {count(found.readings, "reading")} of {count(found.devices, "device")}, {found.added} of them new.{" "}
            <PageLink to="/devices">To the devices</PageLink>
          </>
        )}
      </p>
      {!found.ended && (
        <div className="mt-2 grid gap-2">
          <ProgressBar label="Checked" now={found.position} of={found.size} />
          {found.state === "applying" && <ProgressBar label="Taken over" now={found.applied} of={found.checked} />}
          {hands && found.state !== "applying" && (
            <div>
              <Button quiet onClick={() => cancel.mutate()} disabled={cancel.isPending}>
                Cancel
              </Button>
            </div>
          )}
        </div>
      )}
      {found.why && <p className="mt-1">{found.why}.</p>}
      {cancel.error && <ErrorMessage error={cancel.error} />}
      {found.changes && <Changes changes={found.changes} />}
      {found.rejected > 0 && <Rejected name={name} />}
    </Panel>
  );
}

function Changes({ changes }: { changes: NonNullable<Import["changes"]> }) {
  return (
    <div className="mt-3 grid gap-3 md:grid-cols-3">
      <div>
        <h3 className="font-semibold">States that would change</h3>
        {changes.moves.length === 0 && <p className="text-ink-2">None.</p>}
        <ul>
          {changes.moves.map((move) => (
            <li key={`${move.platform}${move.was}${move.becomes}`}>
              {count(move.count, "device")}: {move.was || "new"} → <strong>{move.becomes}</strong> towards{" "}
              {move.release}
              <span className="block text-sm text-ink-2">{move.devices.slice(0, 6).join(", ")}</span>
            </li>
          ))}
        </ul>
      </div>
      <div>
        <h3 className="font-semibold">Findings that would become disputed</h3>
        {!changes.disputes?.length && <p className="text-ink-2">None.</p>}
        <ul>
          {changes.disputes?.map((newly) => (
            <li key={`${newly.platform}${newly.requirement}`}>
              <strong>{newly.requirement}</strong> on {count(newly.count, "device")} towards {newly.release}
              <span className="block text-sm text-ink-2">{newly.devices.slice(0, 6).join(", ")}</span>
            </li>
          ))}
        </ul>
      </div>
      <div>
        <h3 className="font-semibold">Facts whose value changes</h3>
        {changes.facts.length === 0 && <p className="text-ink-2">None.</p>}
        <ul>
          {changes.facts.map((fact) => (
            <li key={fact.fact}>
              <code className="text-sm">{fact.fact}</code> on {count(fact.devices, "device")}
              <span className="block text-sm text-ink-2">
                {fact.device}: {String(fact.was)} → {String(fact.becomes)}
              </span>
            </li>
          ))}
        </ul>
      </div>
    </div>
  );
}

function Rejected({ name }: { name: string }) {
  const found = api.useQuery("get", "/api/v1/imports/{name}/problems", { params: { path: { name } } });
  return (
    <Loaded of={found} what="the rejected lines">
      {(data) => (
        <Scroll label="Rejected lines" className="mt-3">
          <table className="w-full">
            <caption className="text-left font-semibold">Rejected lines</caption>
            <thead>
              <tr className="[&>th]:px-3">
                <th scope="col">Line</th>
                <th scope="col">Place</th>
                <th scope="col">What is wrong</th>
                <th scope="col">Correct</th>
              </tr>
            </thead>
            <tbody>
              {data.items.map((problem) => (
                <tr key={problem.number}>
                  <td className="cell">{problem.line}</td>
                  <td className="cell">{problem.place}</td>
                  <td className="cell">{problem.message}</td>
                  <td className="cell text-ink-2">{problem.hint}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {data.next && (
            <p className="mt-2 text-sm text-ink-2">The first {data.items.length}; the rest by the command line.</p>
          )}
        </Scroll>
      )}
    </Loaded>
  );
}

function Imports() {
  const found = api.useQuery("get", "/api/v1/imports");
  return (
    <Panel title="Imports">
      <Loaded of={found} what="the imports">
        {(data) =>
          data.items.length === 0 ? (
            <Empty>Nothing has been imported yet.</Empty>
          ) : (
            <Scroll label="Imports">
              <table className="w-full">
                <thead>
                  <tr className="[&>th]:px-3 [&>th]:pb-2">
                    <th scope="col">Import</th>
                    <th scope="col">File</th>
                    <th scope="col">State</th>
                    <th scope="col">Readings</th>
                    <th scope="col">Devices</th>
                    <th scope="col">Rejected</th>
                    <th scope="col">By</th>
                  </tr>
                </thead>
                <tbody>
                  {data.items.map((one) => (
                    <tr key={one.id}>
                      <td className="cell whitespace-nowrap">
                        <PageLink to={`/readings?import=${one.id}`}>{one.id}</PageLink>
                      </td>
                      <td className="cell">{one.name || one.form}</td>
                      <td className="cell">
                        {one.state}
                        {one.dry && ", dry run"}
                      </td>
                      <td className="cell">{one.readings}</td>
                      <td className="cell">
                        {one.devices}
                        {one.added > 0 && `, ${one.added} new`}
                      </td>
                      <td className="cell">{one.rejected || "–"}</td>
                      <td className="cell whitespace-nowrap">
                        {one.by}, {day(one.at)}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </Scroll>
          )
        }
      </Loaded>
    </Panel>
  );
}

const kept = (days: number | null) => (days === null ? "always" : count(days, "day"));

function Sources() {
  const found = api.useQuery("get", "/api/v1/sources");
  return (
    <Panel title="Sources">
      <Loaded of={found} what="the sources">
        {(data) => (
          <Scroll label="Sources">
            <table className="w-full">
              <caption className="pb-2 text-left text-ink-2">
                Where readings disagree, the most trusted source is believed first, and what is too old does not count.
              </caption>
              <thead>
                <tr className="[&>th]:px-3">
                  <th scope="col">Source</th>
                  <th scope="col">Trust</th>
                  <th scope="col">Passing facts count</th>
                  <th scope="col">Lasting facts count</th>
                </tr>
              </thead>
              <tbody>
                {data.items.map((source) => (
                  <tr key={source.name}>
                    <th scope="row" className="cell text-base font-normal text-ink">
                      {source.name}
                    </th>
                    <td className="cell">{source.trust}</td>
                    <td className="cell">{kept(source.passing_days)}</td>
                    <td className="cell">{kept(source.lasting_days)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Scroll>
        )}
      </Loaded>
    </Panel>
  );
}
