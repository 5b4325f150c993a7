// Sheets: what loading one would change, the load itself, and every revision there was.
import { type ChangeEvent, useState } from "react";
import { api, client, useSend } from "../../api/api";
import { allows, useHere } from "../../frame/here";
import {
  Button,
  Choice,
  day,
  ErrorMessage,
  Heading,
  Labelled,
  Loaded,
  PageLink,
  Panel,
  Scroll,
  useParam,
} from "../../ui/parts";
import { Changes, Shows } from "./impact";
import { VendorList } from "./vendor-list";

export function SheetsPage() {
  const { me, platform } = useHere();
  return (
    <>
      <Heading title="Sheets">
        {platform.name} as it is described: revision {platform.sheet_revision}.{" "}
        <a href={`/api/v1/platforms/${platform.id}/files`}>Download it with its lists</a>.
      </Heading>
      <div className="grid gap-4">
        {allows(me, "load_sheet") && <LoadSheet />}
        {allows(me, "load_list") && <VendorList key={platform.id} />}
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
    <Panel title="Load a sheet">
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
        {look.error && <ErrorMessage error={look.error} />}
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
        {load.error && <ErrorMessage error={load.error} />}
        {load.data && (
          <p role="status" className="font-semibold text-met">
            {load.data.platform}, revision {load.data.revision} is loaded.
          </p>
        )}
      </div>
    </Panel>
  );
}

/** Any two revisions, compared in every attribute. */
function Compare({ id, numbers }: { id: string; numbers: number[] }) {
  const [one, setOne] = useParam("one", String(numbers[1] ?? ""));
  const [other, setOther] = useParam("other", String(numbers[0] ?? ""));
  const query = { one: Number(one), other: Number(other) };
  const found = api.useQuery(
    "get",
    "/api/v1/platforms/{platform}/comparison",
    { params: { path: { platform: id }, query } },
    { enabled: query.one > 0 && query.other > 0 },
  );
  if (numbers.length < 2) return null;
  const choices = numbers.map((number) => [String(number), `revision ${number}`] as const);
  return (
    <div className="mt-4 border-t border-edge pt-3">
      <div className="mb-3 flex flex-wrap gap-3">
        <Choice label="Compare" value={one} needed set={setOne} of={choices} />
        <Choice label="with" value={other} needed set={setOther} of={choices} />
      </div>
      <Loaded of={found} what="the comparison">
        {(data) => <Changes changes={data.items} />}
      </Loaded>
    </div>
  );
}

function Revisions({ id }: { id: string }) {
  const found = api.useQuery("get", "/api/v1/platforms/{platform}/revisions", { params: { path: { platform: id } } });
  return (
    <Panel title="Revisions" aside={<PageLink to="/sorting">What it asks, requirement by requirement</PageLink>}>
      <Loaded of={found} what="the revisions">
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
      </Loaded>
      <Compare id={id} numbers={(found.data?.items ?? []).map((one) => one.revision)} />
    </Panel>
  );
}
