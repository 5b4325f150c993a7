// Evidence packs: everything about devices and a period, in one signed archive.
import { useState } from "react";
import { api } from "../../api/api";
import { useHere } from "../../frame/here";
import { Choice, Labelled } from "../../ui/parts";

export function EvidencePack() {
  const { platform, release } = useHere();
  const exceptions = api.useQuery("get", "/api/v1/exceptions");
  const selections = api.useQuery("get", "/api/v1/selections");
  const fleet = api.useQuery("get", "/api/v1/fleet", {
    params: { query: { platform: platform.id, release, by: "site" } },
  });
  const [exception, setException] = useState("");
  const [selection, setSelection] = useState("");
  const [site, setSite] = useState("");
  const [devices, setDevices] = useState("");
  const [start, setStart] = useState("");
  const [end, setEnd] = useState("");
  const named = devices
    .split(/[\s,;]+/)
    .filter(Boolean)
    .join(",");
  const asked = { exception, selection, site, devices: named, start, end };
  const given = Object.entries(asked).filter(([, value]) => value);
  const about = exception || selection || site || named;
  return (
    <details className="slab mb-4">
      <summary className="cursor-pointer font-semibold">Evidence pack for an auditor</summary>
      <p className="mt-2 text-ink-2">
        The register, accounts, readings, kits, sheets and ledger entries about what you choose, signed. It is checked
        without this service: <code>doorstone evidence check</code>.
      </p>
      <div className="mt-3 grid gap-3 sm:grid-cols-2 lg:grid-cols-3">
        <Choice
          label="An exception"
          value={exception}
          nothing="none"
          set={setException}
          of={(exceptions.data?.items ?? []).map((one) => [one.id, `${one.id}, ${one.state}`])}
        />
        <Choice
          label="A saved selection"
          value={selection}
          nothing="none"
          set={setSelection}
          of={(selections.data?.items ?? []).map((one) => [one.name, one.name])}
        />
        <Choice
          label="A site"
          value={site}
          nothing="none"
          set={setSite}
          of={(fleet.data?.groups ?? []).filter((one) => one.name).map((one) => [one.name, one.name])}
        />
        <Labelled label="Devices" hint="Ids, parted by commas or spaces.">
          <input className="field" value={devices} onChange={(event) => setDevices(event.target.value)} />
        </Labelled>
        <Labelled label="From" hint="The beginning, if left out.">
          <input className="field" type="date" value={start} onChange={(event) => setStart(event.target.value)} />
        </Labelled>
        <Labelled label="Through" hint="Today, if left out.">
          <input className="field" type="date" value={end} onChange={(event) => setEnd(event.target.value)} />
        </Labelled>
      </div>
      <p className="mt-3">
        {about ? (
          <a className="font-semibold" href={`/api/v1/evidence?${new URLSearchParams(given)}`} download>
            Download the pack
          </a>
        ) : (
          <span className="text-ink-2">Choose what it is about.</span>
        )}
      </p>
    </details>
  );
}
