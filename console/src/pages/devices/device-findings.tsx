import { api, type Dispute, type Exception, type Finding, type Leaf, type Platform } from "../../api/api";
import { allows, useHere } from "../../frame/here";
import { Mark } from "../../ui/mark";
import { count, day, PageLink } from "../../ui/parts";
import type { DeviceProps } from "./device-props";
import { DisputeSlab } from "./disputes";

/** Whether an exception is for a release: its own, or an earlier one where it holds up to its own. */
function covers(one: Exception, release: string, platform: Platform): boolean {
  const place = (name: string) => platform.releases.findIndex((known) => known.id === name);
  return one.release === release || (one.up_to && place(release) < place(one.release));
}

/** What asks for a decision first. */
const ORDER = ["disputed", "unread", "unsorted", "floor", "installer-check", "fixable", "met"];

export function FindingsTab({
  device,
  release,
  platform: own,
  findings,
}: DeviceProps & { platform: string; findings: Finding[] }) {
  const { me, platform } = useHere();
  const disputed = findings.some((finding) => finding.mark === "disputed");
  const asked = { params: { query: { platform: own, release, device } } };
  const disputes = api.useQuery("get", "/api/v1/disputes", asked, { enabled: disputed }).data?.items ?? [];
  const held = api.useQuery("get", "/api/v1/exceptions", { params: { query: { device } } }).data?.items ?? [];
  const excepted = new Set(
    held.filter((one) => one.in_force && covers(one, release, platform)).flatMap((one) => one.requirements),
  );
  const every = findings.filter((finding) => finding.mark === "installer-check");
  const checks = every.filter((finding) => !excepted.has(finding.requirement.id));
  const floors = findings.filter((finding) => finding.mark === "floor");
  const query = new URLSearchParams({ device, release });
  for (const check of checks) query.append("requirement", check.requirement.id);
  const mayAsk = allows(me, "request_exception");
  return (
    <div className="space-y-3">
      {floors.length > 0 ? (
        <p className="slab border-floor">
          <strong className="text-floor">No exception can carry this device to {release}.</strong>{" "}
          {floors.map((floor) => floor.requirement.title).join(", ")} {floors.length > 1 ? "are floors" : "is a floor"}:
          no setting changes that. See the course above.
        </p>
      ) : (
        checks.length > 0 &&
        mayAsk && (
          <p>
            <PageLink
              to={`/exceptions/new?${query}`}
              className="inline-block rounded-md bg-accent px-3.5 py-1.5 font-semibold text-on-accent no-underline"
            >
              Request an exception for {count(checks.length, "check")}
            </PageLink>
          </p>
        )
      )}
      {every.length > checks.length && (
        <p>
          <strong className="text-met">Excepted today:</strong>{" "}
          {every
            .filter((finding) => excepted.has(finding.requirement.id))
            .map((finding) => finding.requirement.title)
            .join(", ")}
          . <PageLink to={`/devices/${device}?tab=exceptions`}>By which exceptions</PageLink>
        </p>
      )}
      {ORDER.flatMap((mark) => findings.filter((finding) => finding.mark === mark)).map((finding) => (
        <OneFinding
          key={finding.requirement.id}
          finding={finding}
          disputes={disputes.filter((one) => one.requirements.includes(finding.requirement.id))}
        />
      ))}
    </div>
  );
}

function OneFinding({ finding, disputes }: { finding: Finding; disputes: Dispute[] }) {
  const { requirement, mark } = finding;
  return (
    <article id={requirement.id} className="slab scroll-mt-4 target:border-accent">
      <div className="flex flex-wrap items-baseline justify-between gap-x-4 gap-y-1">
        <h2 className="text-lg">{requirement.title}</h2>
        <Mark mark={mark} />
      </div>
      <ul className="mt-1">
        {finding.leaves.map((leaf) => (
          <LeafLine key={`${leaf.fact}${leaf.required}`} leaf={leaf} />
        ))}
      </ul>
      {mark !== "met" && <p className="mt-2 text-ink-2">{requirement.because}</p>}
      {finding.fixes.length > 0 && (
        <ul className="mt-2">
          {finding.fixes.map((fix) => (
            <li key={fix.title}>
              <strong className="text-fixable">Fix:</strong> {fix.title}
              <span className="text-ink-2">
                {" "}
                ({fix.minutes} min{Number(fix.cost) > 0 ? `, ${fix.cost}` : ""})
              </span>
            </li>
          ))}
        </ul>
      )}
      {finding.dispute_decisions.map((one) => (
        <p key={one.id} className="mt-2">
          <strong className="text-open">Settled</strong> by {one.by} on {day(one.at)} ({one.id},{" "}
          <code className="text-sm">{one.subject}</code>): {one.reason}
        </p>
      ))}
      {disputes.map((dispute) => (
        <DisputeSlab key={dispute.subject} dispute={dispute} bare />
      ))}
      {mark !== "met" && (
        <p className="mt-2 text-sm text-ink-2">
          {finding.sorted_by && `Sorted by ${finding.sorted_by}. `}
          Enforced by {requirement.enforced_at.join(", ")}.
          {!finding.decides && " It does not change the state of this device."}
        </p>
      )}
      {finding.words.length > 0 && <SortWords words={finding.words} />}
    </article>
  );
}

function LeafLine({ leaf }: { leaf: Leaf }) {
  return (
    <li>
      <code className="text-sm text-ink-2">{leaf.fact}</code> {leaf.required}:{" "}
      <strong>{leaf.measured ?? "unread"}</strong>
      {leaf.shortfall && <span className="text-floor"> ({leaf.shortfall})</span>}
      {leaf.note && <span className="text-ink-2"> ({leaf.note})</span>}
      {leaf.source && (
        <span className="text-sm text-ink-2">
          {" "}
          · {leaf.source}, {day(leaf.taken_at)}
        </span>
      )}
    </li>
  );
}

const LEVELS: Record<string, string> = { device: "this device", model: "its model", release: "the release" };

/** Every word on the sort in the order of precedence; the first that says anything counts. */
function SortWords({ words }: { words: Finding["words"] }) {
  const counts = words.findIndex((word) => word.sort !== null);
  return (
    <details className="mt-1 text-sm">
      <summary className="cursor-pointer text-ink-2">Where its sort comes from</summary>
      <ol className="mt-1 list-decimal pl-6">
        {words.map((word, at) => (
          <li key={word.level} className={at === counts ? "font-semibold" : "text-ink-2"}>
            {LEVELS[word.level] ? `a decision for ${LEVELS[word.level]}` : "the sheet"}:{" "}
            {word.sort ? `${word.sort}${word.decision ? ` (${word.decision})` : ""}` : "none"}
            {at === counts && ", which counts"}
          </li>
        ))}
      </ol>
    </details>
  );
}
