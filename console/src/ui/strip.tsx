// A device's findings as one strip, a stone per requirement; a number stands against the sill it must reach.
import { useState } from "react";
import type { Finding } from "../api/api";
import { Glyph, Glyphs, isMark, MARKS } from "./mark";

const sentence = (marks: Record<string, string>) =>
  Object.entries(marks)
    .filter(([, mark]) => mark !== "met")
    .map(([name, mark]) => `${name}: ${isMark(mark) ? MARKS[mark].words : mark}`)
    .join(", ") || "every requirement met";

/** The small strip of a list row: a path per kind of mark, and names for the stones only once somebody points at it. */
export function Strip({ marks }: { marks: Record<string, string> }) {
  const [pointed, setPointed] = useState(false);
  const stones = Object.entries(marks);
  const places = new Map<string, number[]>();
  stones.forEach(([, mark], at) => {
    const held = places.get(mark);
    if (held) held.push(at * 18);
    else places.set(mark, [at * 18]);
  });
  return (
    <svg
      viewBox={`0 0 ${stones.length * 18} 16`}
      className="h-4"
      role="img"
      aria-label={sentence(marks)}
      onPointerEnter={() => setPointed(true)}
      onPointerLeave={() => setPointed(false)}
    >
      {[...places].map(([mark, at]) => (
        <g key={mark} className={isMark(mark) ? MARKS[mark].colour : ""}>
          <Glyphs mark={mark} places={at} faint={mark === "met"} />
        </g>
      ))}
      {pointed &&
        stones.map(([name, mark], at) => (
          <rect key={name} x={at * 18 - 1} width="18" height="16" fill="transparent">
            <title>{`${name}: ${isMark(mark) ? MARKS[mark].words : mark}`}</title>
          </rect>
        ))}
    </svg>
  );
}

const WIDTH = 64;
const HEIGHT = 88;
const SILL = 40;
const BASE = 84;

/** The large strip of a device's page: links to each finding below it. */
export function FindingStrip({ findings }: { findings: Finding[] }) {
  return (
    <ol className="flex flex-wrap gap-1.5" aria-label="Findings, a stone per requirement">
      {findings.map((finding) => (
        <li key={finding.requirement.id}>
          <a
            href={`#${finding.requirement.id}`}
            className="block rounded-md border border-edge bg-slab p-1 text-ink-2 no-underline hover:border-ink-2"
          >
            <Stone finding={finding} />
            <span className="block w-16 text-center text-[0.68rem] leading-tight">{finding.requirement.id}</span>
            <span className="sr-only">, {isMark(finding.mark) ? MARKS[finding.mark].words : finding.mark}</span>
          </a>
        </li>
      ))}
    </ol>
  );
}

function Stone({ finding }: { finding: Finding }) {
  const level = finding.leaves.map((leaf) => leaf.level).find((found) => found != null);
  const colour = isMark(finding.mark) ? MARKS[finding.mark].colour : "";
  const height = level == null ? BASE - SILL : Math.max(4, Math.min(level, 1.45) * (BASE - SILL));
  return (
    <svg viewBox={`0 0 ${WIDTH} ${HEIGHT}`} className={`h-[5.5rem] w-16 ${colour}`} aria-hidden="true">
      {level != null && <rect x="8" y={BASE - height} width="48" height={height} fill="currentColor" opacity="0.35" />}
      {level == null && (
        <rect x="8" y={SILL} width="48" height={BASE - SILL} rx="3" fill="currentColor" opacity="0.16" />
      )}
      {level != null && (
        <path d={`M2 ${SILL}h60`} stroke="var(--ink)" strokeWidth="2" strokeDasharray={level >= 1 ? "none" : "5 3"} />
      )}
      <path d={`M2 ${BASE}h60`} stroke="var(--ink-2)" strokeWidth="1.5" />
      <g transform="translate(23 4) scale(1.1)">
        <Glyph mark={finding.mark} />
      </g>
    </svg>
  );
}
