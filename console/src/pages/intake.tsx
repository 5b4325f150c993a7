import { type ChangeEvent, useState } from "react";
import { client, once, useSend } from "../api/api";
import { useHere } from "../frame";
import { Button, count, Empty, Go, Heading, Labelled, Slab, Trouble } from "../ui/parts";

export function IntakePage() {
  const { me } = useHere();
  const hands = me.role === "technician" || me.role === "administrator";
  return (
    <>
      <Heading title="Readings">What sources report about devices, taken in all or nothing.</Heading>
      <div className="grid gap-4">
        {hands ? <Readings /> : <Empty>A technician or an administrator imports readings.</Empty>}
        {me.role === "administrator" && <LoadSheet />}
      </div>
    </>
  );
}

function Readings() {
  const [file, setFile] = useState<File | null>(null);
  const send = useSend(async (chosen: File) => {
    const form = chosen.name.toLowerCase().endsWith(".csv") ? ("csv" as const) : ("ndjson" as const);
    const body = { form, text: await chosen.text() };
    return (await client.POST("/api/v1/readings", { body, headers: once() })).data;
  });
  const choose = (event: ChangeEvent<HTMLInputElement>) => {
    send.reset();
    setFile(event.target.files?.[0] ?? null);
  };
  return (
    <Slab title="Import readings">
      <div className="grid gap-3">
        <Labelled
          label="File of readings"
          hint="One JSON object a line, or a table that ends in .csv. One bad line, and nothing is changed."
        >
          <input className="field" type="file" accept=".ndjson,.jsonl,.json,.csv" onChange={choose} />
        </Labelled>
        <div>
          <Button disabled={!file || send.isPending} onClick={() => file && send.mutate(file)}>
            {send.isPending ? "Importing…" : "Import"}
          </Button>
        </div>
        {send.error && <Trouble error={send.error} />}
        {send.data && (
          <p role="status" className="font-semibold text-met">
            {send.data.id}: {count(send.data.readings, "reading")} of {count(send.data.devices, "device")},{" "}
            {send.data.added} of them new. <Go to="/devices">To the devices</Go>
          </p>
        )}
      </div>
    </Slab>
  );
}

export function LoadSheet() {
  const [files, setFiles] = useState<File[]>([]);
  const sheet = files.find((file) => file.name.endsWith(".toml"));
  const send = useSend(async (chosen: File) => {
    const beside = files.filter((file) => file !== chosen);
    const lists = Object.fromEntries(await Promise.all(beside.map(async (f) => [f.name, await f.text()] as const)));
    const body = { name: chosen.name, text: await chosen.text(), lists };
    return (await client.POST("/api/v1/sheets", { body })).data;
  });
  const choose = (event: ChangeEvent<HTMLInputElement>) => {
    send.reset();
    setFiles([...(event.target.files ?? [])]);
  };
  return (
    <Slab title="Load a sheet">
      <div className="grid gap-3">
        <Labelled label="Sheet and lists" hint="The .toml file together with every list that it names.">
          <input className="field" type="file" multiple accept=".toml,.csv,.txt" onChange={choose} />
        </Labelled>
        <div>
          <Button disabled={!sheet || send.isPending} onClick={() => sheet && send.mutate(sheet)}>
            {send.isPending ? "Loading…" : "Load the sheet"}
          </Button>
        </div>
        {send.error && <Trouble error={send.error} />}
        {send.data && (
          <p role="status" className="font-semibold text-met">
            {send.data.platform}, revision {send.data.revision}
            {send.data.changed ? " is loaded." : " was loaded before; nothing changed."}
          </p>
        )}
      </div>
    </Slab>
  );
}
