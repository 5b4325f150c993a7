// Exceptions as files: a reviewed folder beside the register, and what differs asked for.
import { useState } from "react";
import { client, useSend } from "../../api/api";
import { allows, useHere } from "../../frame/here";
import { textOf } from "../../ui/file-field";
import { Button, CheckboxField, count, ErrorMessage, Labelled, PageLink, Scroll } from "../../ui/parts";

const read = async (files: File[]) =>
  Object.fromEntries(await Promise.all(files.map(async (file) => [file.name, await textOf(file)] as const)));

export function ReviewedFolder() {
  const { me, platform } = useHere();
  const [files, setFiles] = useState<File[]>([]);
  const [reference, setReference] = useState("");
  const [seen, setSeen] = useState(false);
  const look = useSend(
    async () =>
      (await client.POST("/api/v1/exceptions/folder/comparison", { body: { files: await read(files) } })).data,
  );
  const ask = useSend(
    async () => {
      const risks = await Promise.all(
        platform.releases.map(({ id }) =>
          client.GET("/api/v1/risk", { params: { query: { platform: platform.id, release: id } } }),
        ),
      );
      const notices = risks.map((one) => one.data?.notice ?? "").filter(Boolean);
      const body = {
        files: await read(files),
        reference,
        risk_acknowledged: seen ? me.risk_statement : "",
        notices_acknowledged: seen ? notices : [],
      };
      return (await client.POST("/api/v1/exceptions/folder", { body })).data;
    },
    () => look.mutate(),
  );
  const items = look.data?.items ?? [];
  const wanted = items.filter((one) => !one.deeds.includes("by-hand"));
  return (
    <details className="slab mt-4">
      <summary className="cursor-pointer font-semibold">Exceptions as files</summary>
      <p className="mt-2 text-ink-2">
        For policy under version control: <a href="/api/v1/exceptions/folder">download the folder</a>, a TOML file for
        each exception, have it reviewed, and see here how it differs. Files decide nothing: what differs is asked for.
      </p>
      <div className="mt-3 grid gap-3 sm:grid-cols-2">
        <Labelled label="Reviewed files" hint="All .toml files of the folder.">
          <input
            className="field"
            type="file"
            multiple
            accept=".toml"
            onClick={(event) => {
              event.currentTarget.value = "";
            }}
            onChange={(event) => {
              look.reset();
              ask.reset();
              setFiles([...(event.target.files ?? [])]);
            }}
          />
        </Labelled>
        <Labelled label="Revision that they are of" hint="It stands with each change.">
          <input
            className="field"
            value={reference}
            maxLength={200}
            onChange={(event) => setReference(event.target.value)}
          />
        </Labelled>
      </div>
      {wanted.some((one) => one.deeds.some((deed) => deed === "request" || deed === "request-anew")) && (
        <div className="mt-3">
          <p className="mb-1 text-ink-2">{me.risk_statement}</p>
          <CheckboxField
            label="I have read this, and the vendor's notice, and take it on."
            checked={seen}
            set={setSeen}
          />
        </div>
      )}
      <div className="mt-3 flex gap-2">
        <Button quiet disabled={files.length === 0 || look.isPending} onClick={() => look.mutate()}>
          Compare
        </Button>
        {allows(me, "request_folder") && (
          <Button
            disabled={wanted.length === 0 || reference.trim().length < 2 || ask.isPending}
            onClick={() => ask.mutate()}
          >
            {wanted.length ? `Ask for ${count(wanted.length, "difference")}` : "Ask for what differs"}
          </Button>
        )}
      </div>
      {(look.error ?? ask.error) != null && (
        <div className="mt-3">
          <ErrorMessage error={look.error ?? ask.error} />
        </div>
      )}
      {ask.data && (
        <p role="status" className="mt-3 font-semibold text-met">
          {count(ask.data.items.length, "change")} asked for or made.
        </p>
      )}
      {look.data &&
        (items.length === 0 ? (
          <p className="mt-3">Nothing differs.</p>
        ) : (
          <Scroll label="Differences" className="mt-3">
            <table className="w-full min-w-[36rem]">
              <thead>
                <tr className="[&>th]:px-3 [&>th]:py-2">
                  <th scope="col">File</th>
                  <th scope="col">Exception</th>
                  <th scope="col">What differs</th>
                  <th scope="col">What follows</th>
                </tr>
              </thead>
              <tbody>
                {items.map((one) => (
                  <tr key={`${one.file}${one.exception}`}>
                    <td className="cell">{one.file || "no file"}</td>
                    <td className="cell">
                      {one.exception ? <PageLink to={`/exceptions/${one.exception}`}>{one.exception}</PageLink> : "new"}
                    </td>
                    <td className="cell">
                      {one.changes.map((change) => (
                        <span key={change.name} className="block">
                          {change.name}: {change.in_register} → {change.in_file}
                        </span>
                      ))}
                    </td>
                    <td className="cell">
                      {one.deeds.map((deed) => deed.replace("-", " ")).join(", ")}
                      {one.hint && <span className="block text-sm text-ink-2">{one.hint}.</span>}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Scroll>
        ))}
    </details>
  );
}
