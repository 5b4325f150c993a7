// Counts as bars: each part a mark's colour and, where there is room, its number.
import { isMark, MARKS } from "./mark";

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

export function MarkBar({ marks }: { marks: Record<string, number> }) {
  const total = Object.values(marks).reduce((sum, n) => sum + n, 0);
  const parts = ORDER.filter((mark) => marks[mark]).map((mark) => ({ mark, n: marks[mark] ?? 0 }));
  const words = parts.map(({ mark, n }) => `${n} ${isMark(mark) ? MARKS[mark].words : mark}`).join(", ");
  let x = 0;
  return (
    <svg
      viewBox="0 0 200 12"
      preserveAspectRatio="none"
      className="h-3 w-full rounded-sm"
      role="img"
      aria-label={words}
    >
      {parts.map(({ mark, n }) => {
        const width = (200 * n) / Math.max(1, total);
        const from = x;
        x += width;
        return (
          <rect
            key={mark}
            x={from}
            y="0"
            width={Math.max(0, width - 1)}
            height="12"
            fill={FILL[isMark(mark) ? MARKS[mark].colour : ""] ?? "var(--ink-2)"}
            opacity={mark === "met" ? 0.35 : 1}
          >
            <title>{`${n} ${mark}`}</title>
          </rect>
        );
      })}
    </svg>
  );
}
