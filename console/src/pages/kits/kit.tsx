import { clsx } from "clsx";
import Markdown from "react-markdown";
import { useParams } from "react-router";
import remarkGfm from "remark-gfm";
import { api } from "../../api/api";
import { day, Heading, Loaded, PageLink, Panel, useParam } from "../../ui/parts";

export function KitPage() {
  const { kit: name = "" } = useParams();
  const [file, setFile] = useParam("file", "runbook.md");
  const found = api.useQuery("get", "/api/v1/kits/{kit}", { params: { path: { kit: name } } });
  return (
    <Loaded of={found} what={name}>
      {({ kit, files }) => {
        const shown = files.find((one) => one.path === file) ?? files[0];
        return (
          <>
            <Heading title={kit.id}>
              {kit.devices.map((device, at) => (
                <span key={device}>
                  {at > 0 && ", "}
                  <PageLink to={`/devices/${device}?tab=kit`}>{device}</PageLink>
                </span>
              ))}{" "}
              to {kit.release}, {kit.route}, carries over {kit.carry_over} · made {day(kit.made_at)} by {kit.made_by}
              {kit.exceptions.map((exception) => (
                <span key={exception}>
                  {" "}
                  · <PageLink to={`/exceptions/${exception}`}>{exception}</PageLink>
                </span>
              ))}
            </Heading>
            {kit.reasons.length > 0 && (
              <section className="slab mb-4 border-floor" aria-label="No longer handed out">
                <p className="font-semibold text-floor">It is no longer handed out: make a new one.</p>
                <ul className="mt-1">
                  {kit.reasons.map((reason) => (
                    <li key={reason}>{reason}</li>
                  ))}
                </ul>
                {kit.used.length > 0 && <p className="mt-1 text-ink-2">It was used in {kit.used.join(", ")}.</p>}
              </section>
            )}
            {Object.entries(kit.waived).map(([gate, why]) => (
              <p key={gate} className="mb-3">
                <strong className="text-check">Waived:</strong> {gate}: {why}
              </p>
            ))}
            <div className="grid gap-4 lg:grid-cols-[13rem_1fr]">
              <nav aria-label="Files of the kit">
                <ul className="flex flex-wrap gap-1 lg:flex-col">
                  {files.map((one) => (
                    <li key={one.path}>
                      <button
                        type="button"
                        aria-current={one.path === shown?.path}
                        onClick={() => setFile(one.path)}
                        className={clsx(
                          "w-full cursor-pointer rounded-md px-3 py-1.5 text-left font-mono text-sm hover:bg-slab-2",
                          one.path === shown?.path && "bg-slab font-semibold shadow-[inset_3px_0_0_var(--accent)]",
                        )}
                      >
                        {one.path}
                      </button>
                    </li>
                  ))}
                </ul>
                <p className="mt-3 px-3">
                  <a href={`/api/v1/kits/${kit.id}/runbook`} target="_blank" rel="noreferrer">
                    Runbook to print
                  </a>
                </p>
                {kit.reasons.length === 0 && (
                  <a
                    href={`/api/v1/kits/${kit.id}/archive`}
                    className="mt-3 inline-block rounded-md bg-accent px-3.5 py-1.5 font-semibold text-on-accent no-underline"
                  >
                    Download the kit
                  </a>
                )}
              </nav>
              {shown && (
                <Panel title={shown.path}>
                  {shown.path.endsWith(".md") ? (
                    <div className="runbook">
                      <Markdown remarkPlugins={[remarkGfm]} components={{ input: Box }}>
                        {shown.text}
                      </Markdown>
                    </div>
                  ) : (
                    // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable
                    <pre className="max-h-[70dvh] overflow-auto font-mono text-sm" tabIndex={0}>
                      {shown.text}
                    </pre>
                  )}
                </Panel>
              )}
            </div>
            <p className="mt-3 text-sm text-ink-2">
              SHA-256 of the archive: <code className="break-all">{kit.sha256}</code>. Signed; check it against{" "}
              <a href="/api/v1/kits/key">the public key</a>.
            </p>
          </>
        );
      }}
    </Loaded>
  );
}

/** The runbook's tick boxes are for paper: here they are only drawn. */
function Box() {
  return <span aria-hidden="true" className="mr-2 inline-block size-3.5 rounded-sm border border-ink-2 align-[-2px]" />;
}
