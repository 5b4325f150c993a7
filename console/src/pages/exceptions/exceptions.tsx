import { api, type Exception } from "../../api/api";
import { allows, useHere } from "../../frame/here";
import { Choice, day, Empty, Heading, Loaded, PageLink, useParam } from "../../ui/parts";
import { ReviewedFolder } from "./folder";

const STATES = ["requested", "approved", "declined", "withdrawn", "lapsed", "revoked", "closed"];

export const STATE_COLOURS: Record<string, string> = {
  requested: "text-check",
  approved: "text-met",
  declined: "text-floor",
  revoked: "text-floor",
  lapsed: "text-open",
};

export function ExceptionsPage() {
  const { me } = useHere();
  const [state, setState] = useParam("state");
  const [order, setOrder] = useParam("order", "risk");
  const query = { state, order: order === "newest" ? ("newest" as const) : ("risk" as const) };
  const found = api.useQuery("get", "/api/v1/exceptions", { params: { query } });
  return (
    <>
      <Heading title="Exceptions">Approved, dated permissions to run a release with checks unmet.</Heading>
      <div className="mb-4 flex flex-wrap items-end justify-between gap-3">
        <div className="flex gap-3">
          <Choice label="State" value={state} set={setState} of={STATES.map((name) => [name, name])} />
          <Choice
            label="Order"
            value={order}
            needed
            set={setOrder}
            of={[
              ["risk", "most risk first"],
              ["newest", "newest first"],
            ]}
          />
        </div>
        <p className="flex flex-wrap gap-x-4 gap-y-1">
          <PageLink to="/uncovered">Who runs what without permission</PageLink>
          {allows(me, "request_exception") && (
            <>
              <PageLink to="/devices?state=needs-exception">Find a device that needs one</PageLink>
              <PageLink to="/exceptions/new?selection=">Ask for a saved selection</PageLink>
            </>
          )}
          <span className="text-ink-2">
            To hand over: <a href="/api/v1/exceptions/export?form=csv">CSV</a>,{" "}
            <a href="/api/v1/exceptions/export?form=json">JSON</a>,{" "}
            <a href="/api/v1/exceptions/export?form=oscal">OSCAL</a>
          </span>
        </p>
      </div>
      <Loaded of={found} what="the exceptions">
        {(data) =>
          data.items.length ? (
            <ExceptionTable items={data.items} />
          ) : (
            <Empty>{state ? `No exception is ${state}.` : "No exception has been requested yet."}</Empty>
          )
        }
      </Loaded>
      <ReviewedFolder />
    </>
  );
}

export function ExceptionTable({ items }: { items: Exception[] }) {
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable
    <section className="slab relative overflow-x-auto p-0 sm:p-0" tabIndex={0} aria-label="Exceptions">
      <table className="w-full">
        <thead>
          <tr className="[&>th]:px-3 [&>th]:py-2">
            <th scope="col">Exception</th>
            <th scope="col">State</th>
            <th scope="col">Release</th>
            <th scope="col">Requirements</th>
            <th scope="col">Devices</th>
            <th scope="col">Through</th>
            <th scope="col">Risk</th>
            <th scope="col">Asked by</th>
          </tr>
        </thead>
        <tbody>
          {items.map((item) => (
            <tr key={item.id} className="hover:bg-slab-2">
              <td className="cell">
                <PageLink to={`/exceptions/${item.id}`} className="font-semibold whitespace-nowrap">
                  {item.id}
                </PageLink>
              </td>
              <td className={`cell font-semibold ${STATE_COLOURS[item.state] ?? "text-ink-2"}`}>
                {item.state}
                {Object.keys(item.stale).length > 0 && <span className="block text-sm text-floor">stale</span>}
                {item.asked_back && <span className="block text-sm text-check">asked back</span>}
                {item.self_approved && <span className="block text-sm text-floor">own request</span>}
                {item.approvals_needed > 1 && item.state === "requested" && (
                  <span className="block text-sm font-normal text-ink-2">
                    {item.approvals.length} of {item.approvals_needed} approvals
                  </span>
                )}
              </td>
              <td className="cell whitespace-nowrap">
                {item.up_to ? "up to " : ""}
                {item.release}
              </td>
              <td className="cell">{item.requirements.join(", ")}</td>
              <td className="cell">
                {item.devices.length > 3 ? `${item.devices.length} devices` : item.devices.join(", ")}
              </td>
              <td className="cell whitespace-nowrap">{day(item.expires_on)}</td>
              <td className="cell tabular-nums">{item.residual.points}</td>
              <td className="cell">{item.requester}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
