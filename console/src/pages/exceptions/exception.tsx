// One exception: what it permits, who allowed it, on what conditions, and whether it still holds.
import type { ReactNode } from "react";
import { useParams } from "react-router";
import { api, type Exception } from "../../api/api";
import { count, day, Heading, Loaded, PageLink, Panel } from "../../ui/parts";
import { Attachments, Conditions, Said } from "./exception-activity";
import { Decide } from "./exception-decide";
import { EditTerms } from "./exception-edit";
import { STATE_COLOURS } from "./exceptions";

export function ExceptionPage() {
  const { exception = "" } = useParams();
  const path = { params: { path: { exception } } };
  const found = api.useQuery("get", "/api/v1/exceptions/{exception}", path);
  return (
    <Loaded of={found} what={exception}>
      {(data) => (
        <>
          <Heading title={data.id}>
            <strong className={STATE_COLOURS[data.state] ?? ""}>{data.state}</strong>
            {data.in_force && ", in force"}
            {data.asked_back && ", asked back"} · {data.up_to ? "up to " : ""}
            {data.release} · {count(data.devices.length, "device")} · through {day(data.expires_on)} ·{" "}
            <a href={`/api/v1/exceptions/${data.id}/page`} target="_blank" rel="noreferrer">
              Page to print
            </a>{" "}
            ·{" "}
            <a href={`/api/v1/evidence?exception=${data.id}`} download>
              Evidence pack
            </a>
          </Heading>
          <StillTrue data={data} />
          <div className="grid gap-4 lg:grid-cols-[1fr_21rem]">
            <div className="grid content-start gap-4">
              <Terms data={data} />
              <Residual data={data} />
              <Conditions key={`conditions ${data.version}`} data={data} />
              <Attachments data={data} />
            </div>
            <div className="grid content-start gap-4">
              <Decide key={data.version} data={data} />
              <Said data={data} />
              <Story name={data.id} />
            </div>
          </div>
        </>
      )}
    </Loaded>
  );
}

function Row({ label, children }: { label: string; children: ReactNode }) {
  return (
    <div className="border-t border-edge py-2 first:border-0">
      <dt className="text-sm font-semibold text-ink-2">{label}</dt>
      <dd>{children}</dd>
    </div>
  );
}

function Changes({ of }: { of: [string, string[]][] }) {
  return (
    <ul className="mt-1">
      {of.map(([device, changes]) => (
        <li key={device}>
          <PageLink to={`/devices/${device}`}>{device}</PageLink>: {changes.join("; ")}
        </li>
      ))}
    </ul>
  );
}

/** For what is approved: whether anything that it rests on has changed. For what has ended: what is to be done. */
function StillTrue({ data }: { data: Exception }) {
  const ended = ["revoked", "lapsed", "closed"].includes(data.state);
  const path = { params: { path: { exception: data.id } } };
  const found = api.useQuery("get", "/api/v1/exceptions/{exception}/consequences", path, { enabled: ended });
  const stale = Object.entries(data.stale);
  const movedOn = Object.entries(data.stale_moved_on);
  if (stale.length === 0 && movedOn.length > 0)
    return (
      <section className="slab mb-4" aria-label="Stale, and moved on">
        <p className="font-semibold">
          No longer true for {count(movedOn.length, "device")} that already run a later release. Nothing has to be done.
        </p>
        <Changes of={movedOn} />
      </section>
    );
  if (stale.length > 0)
    return (
      <section className="slab mb-4 border-floor" aria-label="Stale">
        <p className="font-semibold text-floor">
          No longer true for {stale.length} of {count(data.devices.length, "device")}; the others stand.
        </p>
        <Changes of={[...stale, ...movedOn]} />
      </section>
    );
  const relying = found.data?.items.filter((one) => one.relies || one.steps.length > 1) ?? [];
  if (relying.length === 0) return null;
  return (
    <section className="slab mb-4 border-floor" aria-label="To do">
      <p className="font-semibold text-floor">It no longer holds. What must be done:</p>
      <ul className="mt-1">
        {relying.map((one) => (
          <li key={one.device}>
            <PageLink to={`/devices/${one.device}`}>{one.device}</PageLink>: {one.steps.join(". ")}.
          </li>
        ))}
      </ul>
    </section>
  );
}

/** What it weighs to run on without these requirements: a sum that everybody can work out. */
function Residual({ data }: { data: Exception }) {
  const { points, parts, device } = data.residual;
  const several = data.devices.length > 1 && device;
  return (
    <Panel title="Residual risk" aside={<strong className="font-head text-2xl">{points}</strong>}>
      <ul>
        {parts.map((part) => (
          <li key={part.words} className="flex justify-between gap-4 border-t border-edge py-1 first:border-0">
            <span>{part.words}</span>
            <span className="tabular-nums">{part.points > 0 ? `+${part.points}` : part.points}</span>
          </li>
        ))}
      </ul>
      <p className="mt-2 text-sm text-ink-2">
        Weights stand in the sheet, the other points in the configuration; never below 0.
        {several && (
          <>
            {" "}
            Of its devices <PageLink to={`/devices/${device}`}>{device}</PageLink> weighs most.
          </>
        )}
        {data.approvals_needed > 1 && ` It takes ${data.approvals_needed} approvers.`}
      </p>
    </Panel>
  );
}

function Terms({ data }: { data: Exception }) {
  return (
    <Panel title="What it permits">
      <dl>
        <Row label="Requirements unmet">{data.requirements.join(", ")}</Row>
        <Row label="Devices">
          <ul className="flex flex-wrap gap-x-3">
            {data.devices.map((device) => (
              <li key={device}>
                <PageLink to={`/devices/${device}?tab=exceptions`}>{device}</PageLink>
              </li>
            ))}
          </ul>
        </Row>
        {Object.keys(data.left_out).length > 0 && (
          <Row label="Asked for and not approved">
            <ul>
              {Object.entries(data.left_out).map(([what, why]) => (
                <li key={what}>
                  {what}: <span className="text-ink-2">{why}</span>
                </li>
              ))}
            </ul>
          </Row>
        )}
        <Row label="Reason">{data.reason}</Row>
        <Row label="In force">
          {day(data.start_on)} through {day(data.expires_on)}, reviewed by {day(data.review_on)}
          {data.ended_on && ` · ended on ${day(data.ended_on)}`}
        </Row>
        {(data.renews || data.renewed_by) && (
          <Row label="Renewal">
            {data.renews && (
              <>
                Renews <PageLink to={`/exceptions/${data.renews}`}>{data.renews}</PageLink>.{" "}
              </>
            )}
            {data.renewed_by && (
              <>
                <PageLink to={`/exceptions/${data.renewed_by}`}>{data.renewed_by}</PageLink>{" "}
                {data.renewed_state === "requested" ? "is asked for to renew it." : "renews it."}
              </>
            )}
          </Row>
        )}
        <Row label="Owner">{data.owner}</Row>
        <Row label={`Risk, version ${data.risk_version}, acknowledged word for word by ${data.acknowledged_by}`}>
          {data.risk_text}
          {data.notice_text && <span className="mt-1 block">The vendor's notice with it: “{data.notice_text}”</span>}
        </Row>
        <Row label="Requested">
          by {data.requester} on {day(data.requested_at)}
          {data.approvals_needed > 1 && ` · takes ${data.approvals_needed} approvers`}
        </Row>
        {data.approvals.map((one) => (
          <Row
            key={one.person}
            label={`Approved by ${one.person}${one.in_place_of && `, in place of ${one.in_place_of}`}`}
          >
            {day(one.at)}
            {data.self_approved && one.person === data.requester && (
              <strong className="text-floor"> (their own request)</strong>
            )}
            {one.note && <span className="block">“{one.note}”</span>}
          </Row>
        ))}
        {data.decided_by && data.approvals.length === 0 && (
          <Row label={`Decided: ${data.state}`}>
            by {data.decided_by} on {day(data.decided_at)}
            {data.self_approved && <strong className="text-floor"> (own request)</strong>}
            {data.decision_note && <span className="block">“{data.decision_note}”</span>}
          </Row>
        )}
        {data.state === "revoked" && data.approvals.length > 0 && (
          <Row label="Revoked">
            by {data.decided_by} on {day(data.decided_at)} <span className="block">“{data.decision_note}”</span>
          </Row>
        )}
      </dl>
      {data.actions.includes("edit") && <EditTerms key={data.version} data={data} />}
    </Panel>
  );
}

function Story({ name }: { name: string }) {
  const query = { kind: "exception", object: name };
  const found = api.useQuery("get", "/api/v1/ledger/story", { params: { query } });
  return (
    <Panel title="What happened">
      <Loaded of={found} what="the ledger">
        {(data) => (
          <ol className="space-y-1.5">
            {data.items.map((line) => (
              <li key={line.seq}>
                {line.words}
                <span className="block text-sm text-ink-2">{day(line.at)}</span>
              </li>
            ))}
          </ol>
        )}
      </Loaded>
    </Panel>
  );
}
