// Sheets: what loading one would change, the load itself, and every revision there was.
import { type ChangeEvent, useState } from "react";
import { api, client, type Impact, useSend } from "../../api/api";
import { allows, useHere } from "../../frame/here";
import { Button, count, day, Go, Heading, Labelled, Scroll, Shown, Slab, Trouble } from "../../ui/parts";

export function SheetsPage() {
  const { me, platform } = useHere();
  return (
    <>
      <Heading title="Sheets">
        {platform.name} as it is described: revision {platform.sheet_revision}.
      </Heading>
      <div className="grid gap-4">
        {allows(me, "load_sheet") && <LoadSheet />}
        <Revisions id={platform.id} />
      </div>
    </>
  );
}

async function read(files: File[]) {
  const sheet = files.find((file) => file.name.endsWith(".toml"));
  if (!sheet) throw new Error("no sheet");
  const beside = files.filter((file) => file !== sheet);
  const lists = Object.fromEntries(await Promise.all(beside.map(async (f) => [f.name, await f.text()] as const)));
  return { name: sheet.name, text: await sheet.text(), lists };
}

/** A changed sheet shows its impact first; the load refers to the revision that was looked at. */
export function LoadSheet() {
  const [files, setFiles] = useState<File[]>([]);
  const sheet = files.find((file) => file.name.endsWith(".toml"));
  const look = useSend(
    async () => (await client.POST("/api/v1/sheets/impact", { body: { ...(await read(files)), seen: null } })).data,
  );
  const load = useSend(async (seen: number) => {
    const body = { ...(await read(files)), seen };
    return (await client.POST("/api/v1/sheets", { body })).data;
  });
  const choose = (event: ChangeEvent<HTMLInputElement>) => {
    look.reset();
    load.reset();
    setFiles([...(event.target.files ?? [])]);
  };
  const impact = look.data;
  return (
    <Slab title="Load a sheet">
      <div className="grid gap-3">
        <Labelled label="Sheet and lists" hint="The .toml file together with every file beside it that it names.">
          <input
            className="field"
            type="file"
            multiple
            accept=".toml,.csv,.txt,.json,.j2,.ini,.conf,.b64"
            onChange={choose}
          />
        </Labelled>
        <div>
          <Button disabled={!sheet || look.isPending} onClick={() => look.mutate()}>
            {look.isPending ? "Looking…" : "See what it changes"}
          </Button>
        </div>
        {look.error && <Trouble error={look.error} />}
        {impact && !load.data && (
          <>
            <Shows impact={impact} />
            {impact.changed && (
              <div>
                <Button disabled={load.isPending} onClick={() => load.mutate(impact.revision)}>
                  {load.isPending ? "Loading…" : `Load it as revision ${impact.revision + 1}`}
                </Button>
              </div>
            )}
          </>
        )}
        {load.error && <Trouble error={load.error} />}
        {load.data && (
          <p role="status" className="font-semibold text-met">
            {load.data.platform}, revision {load.data.revision} is loaded.
          </p>
        )}
      </div>
    </Slab>
  );
}

function Shows({ impact }: { impact: Impact }) {
  if (!impact.changed)
    return (
      <p role="status">
        This is revision {impact.revision} of {impact.name}, already loaded.
      </p>
    );
  if (impact.revision === 0) return <p role="status">This is the first sheet of {impact.name}.</p>;
  const touched = [...impact.relying, ...impact.exceptions, ...impact.kits];
  return (
    <div role="status" className="grid gap-4">
      <Changes changes={impact.changes} />
      <section>
        <h3 className="font-semibold">Devices that change state</h3>
        {impact.moves.length === 0 && <p className="text-ink-2">None.</p>}
        <ul>
          {impact.moves.map((move) => (
            <li key={`${move.release}${move.was}${move.becomes}`}>
              At {move.release}, {count(move.count, "device")}: {move.was} → <strong>{move.becomes}</strong>
              <span className="block text-sm text-ink-2">{move.devices.slice(0, 8).join(", ")}</span>
            </li>
          ))}
        </ul>
      </section>
      <Moves
        title="Runways that move"
        of={impact.runways.map((move) => ({
          ...move,
          what: move.line,
          was: day(move.was),
          becomes: day(move.becomes),
        }))}
      />
      <Moves
        title="Ways that cost otherwise"
        of={impact.costs.map((move) => ({
          ...move,
          what: move.way,
          was: move.was ?? "–",
          becomes: move.becomes ?? "–",
        }))}
      />
      <section>
        <h3 className="font-semibold">Overrides relied on, exceptions, kits</h3>
        {touched.length === 0 && <p className="text-ink-2">None is touched.</p>}
        <ul>
          {touched.map((one) => (
            <li key={one.id}>
              <strong>{one.id}</strong>: {one.words.join("; ")}
              <span className="block text-sm text-ink-2">{one.devices.join(", ") || "no device relies on it"}</span>
            </li>
          ))}
        </ul>
      </section>
    </div>
  );
}

interface Move {
  what: string;
  was: string;
  becomes: string;
  count: number;
  devices: string[];
}

function Moves({ title, of }: { title: string; of: Move[] }) {
  return (
    <section>
      <h3 className="font-semibold">{title}</h3>
      {of.length === 0 && <p className="text-ink-2">None.</p>}
      <ul>
        {of.map((move) => (
          <li key={`${move.what}${move.was}${move.becomes}`}>
            {move.what}, {count(move.count, "device")}: {move.was} → <strong>{move.becomes}</strong>
            <span className="block text-sm text-ink-2">{move.devices.slice(0, 8).join(", ")}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Changes({ changes }: { changes: Impact["changes"] }) {
  return (
    <ul className="space-y-1">
      {changes.map((change) => (
        <li key={`${change.kind}${change.subject}${change.words}`}>
          <span className="text-sm text-ink-2">{change.kind}</span> <strong>{change.subject}</strong>: {change.words}
        </li>
      ))}
      {changes.length === 0 && <li className="text-ink-2">Nothing that changes an answer.</li>}
    </ul>
  );
}

function Revisions({ id }: { id: string }) {
  const found = api.useQuery("get", "/api/v1/platforms/{platform}/revisions", { params: { path: { platform: id } } });
  return (
    <Slab title="Revisions" aside={<Go to="/sorting">What it asks, requirement by requirement</Go>}>
      <Shown of={found} what="the revisions">
        {(data) => (
          <Scroll label="Revisions">
            <table className="w-full">
              <thead>
                <tr className="[&>th]:px-3">
                  <th scope="col">Revision</th>
                  <th scope="col">Loaded</th>
                  <th scope="col">What changed</th>
                </tr>
              </thead>
              <tbody>
                {data.items.map((one) => (
                  <tr key={one.revision}>
                    <th scope="row" className="cell">
                      <a href={`/api/v1/platforms/${id}/revisions/${one.revision}`}>{one.revision}</a>
                    </th>
                    <td className="cell whitespace-nowrap">
                      {one.loaded_by}, {day(one.loaded_at)}
                    </td>
                    <td className="cell">{one.revision === 1 ? "the first" : <Changes changes={one.changes} />}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Scroll>
        )}
      </Shown>
    </Slab>
  );
}
