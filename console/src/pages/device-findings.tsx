import type { Finding, Leaf } from "../api/api";
import { useHere } from "../frame";
import { Mark } from "../ui/mark";
import { count, day, Go } from "../ui/parts";
import type { DeviceProps } from "./device";

/** What asks for a decision first. */
const ORDER = ["disputed", "unread", "unsorted", "floor", "installer-check", "fixable", "met"];

export function FindingsTab({ device, release, findings }: DeviceProps & { findings: Finding[] }) {
  const { me } = useHere();
  const checks = findings.filter((finding) => finding.mark === "installer-check");
  const floors = findings.filter((finding) => finding.mark === "floor");
  const query = new URLSearchParams({ device, release });
  for (const check of checks) query.append("requirement", check.requirement.id);
  const mayAsk = me.role === "technician" || me.role === "administrator";
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
            <Go
              to={`/exceptions/new?${query}`}
              className="inline-block rounded-md bg-accent px-3.5 py-1.5 font-semibold text-on-accent no-underline"
            >
              Request an exception for {count(checks.length, "check")}
            </Go>
          </p>
        )
      )}
      {ORDER.flatMap((mark) => findings.filter((finding) => finding.mark === mark)).map((finding) => (
        <OneFinding key={finding.requirement.id} finding={finding} />
      ))}
    </div>
  );
}

function OneFinding({ finding }: { finding: Finding }) {
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
      {(finding.rivals.length > 0 || finding.against.length > 0) && <Dispute finding={finding} />}
      {mark !== "met" && (
        <p className="mt-2 text-sm text-ink-2">
          {finding.sorted_by && `Sorted by ${finding.sorted_by}. `}
          Enforced by {requirement.enforced_at.join(", ")}.
          {!finding.deciding && " It does not change the state of this device."}
        </p>
      )}
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

function Dispute({ finding }: { finding: Finding }) {
  return (
    <table className="mt-2 text-sm">
      <caption className="text-left font-semibold text-open">What the sources say</caption>
      <tbody>
        {finding.rivals.map((rival) => (
          <tr key={`${rival.source}${rival.fact}`}>
            <td className="cell">{rival.source}</td>
            <td className="cell">{rival.fact}</td>
            <td className="cell font-semibold">{rival.value}</td>
            <td className="cell">{day(rival.taken_at)}</td>
            <td className="cell">gives {rival.outcome}</td>
          </tr>
        ))}
        {finding.against.map((verdict) => (
          <tr key={verdict.source}>
            <td className="cell">{verdict.source}</td>
            <td className="cell">its verdict</td>
            <td className="cell font-semibold">{verdict.passed ? "pass" : "fail"}</td>
            <td className="cell">{day(verdict.taken_at)}</td>
            <td className="cell">against the facts</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
