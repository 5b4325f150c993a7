// What if: a release on another day, an override that ends elsewhere, a requirement met by all; before and after.
import { type FormEvent, useState } from "react";
import { api, client, useSend } from "../../api/api";
import { useHere } from "../../frame/here";
import { Button, Choice, count, ErrorMessage, Labelled, Panel } from "../../ui/parts";

const SORTS = ["floor", "installer-check", "unsorted"] as const;
type Sort = (typeof SORTS)[number];

export function WhatIf() {
  const { platform, release } = useHere();
  const [later, setLater] = useState("");
  const [published, setPublished] = useState("");
  const [override, setOverride] = useState("");
  const [end, setEnd] = useState("");
  const [fixed, setFixed] = useState("");
  const [granted, setGranted] = useState("");
  const [sorted, setSorted] = useState("");
  const [sort, setSort] = useState<Sort>("floor");
  const asked = api.useQuery("get", "/api/v1/sorting", { params: { query: { platform: platform.id, release } } });
  const send = useSend(async () => {
    const supposing = {
      published: later && published ? { [later]: published } : {},
      serviced: {},
      ends: override ? { [override.trim()]: end } : {},
      fixed: fixed ? [fixed] : [],
      granted: granted ? [granted] : [],
      sorts: sorted ? { [sorted]: sort } : {},
    };
    return (await client.POST("/api/v1/forecast/what-if", { body: { platform: platform.id, supposing } })).data;
  });
  const requirements = (asked.data?.items ?? []).map((row) => [row.requirement, row.title] as const);
  const releases = platform.releases.map((one) => [one.id, one.id] as const);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    send.mutate();
  };
  return (
    <Panel title="What if">
      <form onSubmit={submit} className="grid items-end gap-3 sm:grid-cols-2 lg:grid-cols-5">
        <Choice label="The release" value={later} set={setLater} of={releases} nothing="none" />
        <Labelled label="comes on">
          <input className="field" type="date" value={published} onChange={(e) => setPublished(e.target.value)} />
        </Labelled>
        <Labelled label="The override">
          <input
            className="field"
            placeholder="its id"
            value={override}
            onChange={(e) => setOverride(e.target.value)}
          />
        </Labelled>
        <Choice label="ends at" value={end} set={setEnd} of={releases} nothing="no release" />
        <Choice label="All meet" value={fixed} set={setFixed} of={requirements} nothing="what they meet" />
        <Choice label="Excepted for all" value={granted} set={setGranted} of={requirements} nothing="what is" />
        <Choice label="Sorted otherwise" value={sorted} set={setSorted} of={requirements} nothing="none" />
        <Choice
          label="as"
          value={sort}
          set={(value) => setSort(value as Sort)}
          needed
          of={SORTS.map((name) => [name, name])}
        />
        <Button type="submit" disabled={send.isPending}>
          {send.isPending ? "Counting…" : "Suppose"}
        </Button>
      </form>
      {send.error && <ErrorMessage error={send.error} />}
      {send.data && (
        <div role="status" className="mt-3">
          <p>
            <strong>{count(send.data.longer, "device")}</strong> stay serviced longer, {send.data.shorter} shorter:{" "}
            {send.data.gained_days} device-days in all. Nothing was changed.
          </p>
          <table className="mt-2 text-sm">
            <thead>
              <tr className="[&>th]:pr-6">
                <th scope="col">Last serviced month</th>
                <th scope="col">Today</th>
                <th scope="col">Supposed</th>
              </tr>
            </thead>
            <tbody>
              {send.data.months.map((month) => (
                <tr key={month.month} className={month.before === month.after ? "" : "font-semibold"}>
                  <th scope="row" className="pr-6 font-normal">
                    {month.month}
                  </th>
                  <td>{month.before}</td>
                  <td>{month.after}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </Panel>
  );
}
