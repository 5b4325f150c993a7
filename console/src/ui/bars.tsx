// Counts as bars: each part a mark's colour and, where there is room, its number.
import { isMark, MARKS, STATES, type StateName } from "./mark";

const FILL: Record<string, string> = {
  "text-met": "var(--met)",
  "text-fixable": "var(--fixable)",
  "text-check": "var(--check)",
  "text-floor": "var(--floor)",
  "text-open": "var(--open)",
};
const ORDER = Object.keys(MARKS);

/** How far something long has come; native, so that it is read out. */
export function ProgressBar({ label, now, of }: { label: string; now: number; of: number }) {
  const share = of > 0 ? Math.min(100, Math.round((100 * now) / of)) : 0;
  return (
    <label className="grid gap-1">
      <span>
        {label}: {share} %
      </span>
      <progress className="h-3 w-full accent-accent" value={now} max={Math.max(1, of)} />
    </label>
  );
}

interface Part {
  n: number;
  words: string;
  colour: string;
  opacity?: number;
}

export function MarkBar({ marks }: { marks: Record<string, number> }) {
  const parts = ORDER.filter((mark) => marks[mark]).map((mark) => ({
    n: marks[mark] ?? 0,
    words: isMark(mark) ? MARKS[mark].words : mark,
    colour: isMark(mark) ? MARKS[mark].colour : "",
    opacity: mark === "met" ? 0.35 : 1,
  }));
  return <Bar parts={parts} />;
}

const PALE: Partial<Record<StateName, number>> = { clear: 0.35, excepted: 0.45 };

/** Devices by state, in the order of the states. */
export function StateBar({ states }: { states: Record<string, number> }) {
  const parts = Object.entries(STATES).flatMap(([name, { words, colour }]) => {
    const n = states[name];
    return n ? [{ n, words, colour, opacity: PALE[name as StateName] ?? 1 }] : [];
  });
  return <Bar parts={parts} />;
}

function Bar({ parts }: { parts: Part[] }) {
  const total = parts.reduce((sum, part) => sum + part.n, 0);
  const words = parts.map((part) => `${part.n} ${part.words}`).join(", ");
  let x = 0;
  return (
    <svg
      viewBox="0 0 200 12"
      preserveAspectRatio="none"
      className="h-3 w-full rounded-sm"
      role="img"
      aria-label={words}
    >
      {parts.map(({ n, words, colour, opacity }) => {
        const width = (200 * n) / Math.max(1, total);
        const from = x;
        x += width;
        return (
          <rect
            key={words}
            x={from}
            y="0"
            width={Math.max(0, width - 1)}
            height="12"
            fill={FILL[colour] ?? "var(--ink-2)"}
            opacity={opacity}
          >
            <title>{`${n} ${words}`}</title>
          </rect>
        );
      })}
    </svg>
  );
}
