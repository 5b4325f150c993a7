// The marks of a finding, told apart by shape as well as colour.

export const MARKS = {
  met: { words: "met", colour: "text-met" },
  fixable: { words: "fixable", colour: "text-fixable" },
  "installer-check": { words: "installer check", colour: "text-check" },
  floor: { words: "floor", colour: "text-floor" },
  unsorted: { words: "unsorted", colour: "text-open" },
  unread: { words: "unread", colour: "text-open" },
  disputed: { words: "disputed", colour: "text-open" },
} as const;

export type MarkName = keyof typeof MARKS;
export const isMark = (name: string): name is MarkName => name in MARKS;

interface Shape {
  /** The outline in a box of 16 whose left edge is at `x`, as SVG path data. */
  at: (x: number) => string;
  /** How thick it is drawn; filled if it is not. */
  line?: number;
  dash?: string;
}

const disc = (x: number, r: number) => `M${x + 8 - r} 8a${r} ${r} 0 1 0 ${2 * r} 0a${r} ${r} 0 1 0 ${-2 * r} 0Z`;

/**
 * Met: a disc. Fixable: a lozenge. Check: a bar between posts. Excepted: the bar swung open. Floor: a block.
 * Disputed: unequal. Unread: a broken ring.
 */
const SHAPES: Record<MarkName | "excepted", Shape> = {
  met: { at: (x) => disc(x, 5) },
  fixable: { at: (x) => `M${x + 8} 1.5l6.5 6.5l-6.5 6.5l-6.5 -6.5Z`, line: 2.5 },
  "installer-check": { at: (x) => `M${x + 2} 13.5v-10m12 10v-10m-12 4.5h12`, line: 2.5 },
  excepted: { at: (x) => `M${x + 2} 14v-7.5m12 7.5v-7.5m-12 2l9 -6.5`, line: 2.5 },
  floor: { at: (x) => `M${x + 1.5} 3h13v10h-13Z` },
  disputed: { at: (x) => `M${x + 2} 5.5h12m-12 5h12m-3 -9l-6 13`, line: 2 },
  unread: { at: (x) => disc(x, 5.5), line: 2, dash: "2.6 2.2" },
  unsorted: { at: (x) => `M${x + 5} 5.5a3 3 0 1 1 4 2.8c-.7 .3 -1 .8 -1 1.7m0 2.5v1`, line: 2 },
};

/** The glyphs of one mark in boxes of 16 at `places`, drawn as one path. */
export function Glyphs({ mark, places, faint = false }: { mark: string; places: number[]; faint?: boolean }) {
  const { at, line, dash } = SHAPES[isMark(mark) || mark === "excepted" ? mark : "unsorted"];
  const opacity = faint ? 0.55 : undefined;
  const drawn = line
    ? { fill: "none", stroke: "currentColor", strokeWidth: line, strokeDasharray: dash, strokeOpacity: opacity }
    : { fill: "currentColor", fillOpacity: opacity };
  return <path d={places.map(at).join("")} strokeLinecap={mark === "unsorted" ? "round" : undefined} {...drawn} />;
}

/** The glyph alone, in a box of 16. */
export function Glyph({ mark }: { mark: string }) {
  return <Glyphs mark={mark} places={[0]} />;
}

export function Mark({ mark, words = true }: { mark: string; words?: boolean }) {
  const known = isMark(mark) ? MARKS[mark] : { words: mark, colour: "text-ink-2" };
  return (
    <span className={`inline-flex items-center gap-1.5 whitespace-nowrap font-semibold ${known.colour}`}>
      <svg viewBox="0 0 16 16" className="size-4 shrink-0" aria-hidden="true">
        <Glyph mark={mark} />
      </svg>
      {words ? known.words : <span className="sr-only">{known.words}</span>}
    </span>
  );
}

export const STATES = {
  clear: { words: "clear", mark: "met", colour: "text-met" },
  fixable: { words: "fixable", mark: "fixable", colour: "text-fixable" },
  excepted: { words: "excepted", mark: "excepted", colour: "text-check" },
  "needs-exception": { words: "needs an exception", mark: "installer-check", colour: "text-check" },
  floored: { words: "floored", mark: "floor", colour: "text-floor" },
  unsettled: { words: "unsettled", mark: "disputed", colour: "text-open" },
} as const;

export type StateName = keyof typeof STATES;
export const STATE_NAMES = Object.keys(STATES) as StateName[];

export function StateMark({ state }: { state: StateName }) {
  const known = STATES[state];
  return (
    <span className={`inline-flex items-center gap-1.5 font-semibold leading-tight ${known.colour}`}>
      <svg viewBox="0 0 16 16" className="size-4 shrink-0" aria-hidden="true">
        <Glyph mark={known.mark} />
      </svg>
      {known.words}
    </span>
  );
}
