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

/** The glyph alone, in a box of 16. Met: a disc. Fixable: a lozenge. Check: a lifted bar. Floor: a block. */
export function Glyph({ mark }: { mark: string }) {
  switch (mark) {
    case "met":
      return <circle cx="8" cy="8" r="5" fill="currentColor" />;
    case "fixable":
      return <path d="M8 1.5 14.5 8 8 14.5 1.5 8Z" fill="none" stroke="currentColor" strokeWidth="2.5" />;
    case "installer-check":
      return <path d="M2 13.5V3.5M14 13.5V3.5M2 8h12" fill="none" stroke="currentColor" strokeWidth="2.5" />;
    case "floor":
      return <path d="M1.5 3h13v10h-13z" fill="currentColor" />;
    case "disputed":
      return <path d="M2 5.5h12M2 10.5h12M11 1.5 5 14.5" fill="none" stroke="currentColor" strokeWidth="2" />;
    case "unread":
      return (
        <circle cx="8" cy="8" r="5.5" fill="none" stroke="currentColor" strokeWidth="2" strokeDasharray="2.6 2.2" />
      );
    default:
      return (
        <path
          d="M5 5.5a3 3 0 1 1 4 2.8c-.7.3-1 .8-1 1.7M8 12.5v1"
          fill="none"
          stroke="currentColor"
          strokeWidth="2"
          strokeLinecap="round"
        />
      );
  }
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
  clear: { words: "clear", mark: "met" },
  fixable: { words: "fixable", mark: "fixable" },
  "needs-exception": { words: "needs an exception", mark: "installer-check" },
  floored: { words: "floored", mark: "floor" },
  unsettled: { words: "unsettled", mark: "disputed" },
} as const;

export type StateName = keyof typeof STATES;
export const STATE_NAMES = Object.keys(STATES) as StateName[];

export function StateMark({ state }: { state: StateName }) {
  const known = STATES[state];
  return (
    <span className={`inline-flex items-center gap-1.5 font-semibold leading-tight ${MARKS[known.mark].colour}`}>
      <svg viewBox="0 0 16 16" className="size-4 shrink-0" aria-hidden="true">
        <Glyph mark={known.mark} />
      </svg>
      {known.words}
    </span>
  );
}
