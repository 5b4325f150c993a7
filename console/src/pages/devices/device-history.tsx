// What was seen of updates over time: one line per class, a mark per observation.
import { api } from "../../api/api";
import type { components } from "../../api/schema";
import { day } from "../../ui/parts";

type Seen = components["schemas"]["ObservationResponse"];
const CLASSES = ["security", "driver", "release"];
const WIDTH = 720;
const LEFT = 90;
const words = (time: number) => day(new Date(time).toISOString());

export function History({ device }: { device: string }) {
  const found = api.useQuery("get", "/api/v1/observations", { params: { query: { device } } });
  const items = found.data?.items ?? [];
  if (items.length === 0) return null;
  const times = items.map((one) => Date.parse(one.seen_on));
  const [from, to] = [Math.min(...times), Math.max(...times)];
  const x = (one: Seen) =>
    LEFT + 10 + ((WIDTH - LEFT - 30) * (Date.parse(one.seen_on) - from)) / Math.max(1, to - from);
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable
    <section className="relative mt-4 overflow-x-auto" tabIndex={0} aria-label="Updates over time">
      <svg
        viewBox={`0 0 ${WIDTH} 112`}
        className="w-full min-w-[30rem]"
        role="img"
        aria-label={`Seen from ${words(from)} to ${words(to)}`}
      >
        {CLASSES.map((name, row) => (
          <g key={name} transform={`translate(0 ${row * 30 + 14})`}>
            <text x="0" y="5" fontSize="14" fill="var(--ink)">
              {name}
            </text>
            <path d={`M${LEFT} 0H${WIDTH - 12}`} stroke="var(--edge)" />
            {items
              .filter((one) => one.update_class === name)
              .map((one) => (
                <Mark key={one.id} one={one} x={x(one)} />
              ))}
          </g>
        ))}
        <text x={LEFT} y="108" fontSize="12" fill="var(--ink-2)">
          {words(from)}
        </text>
        <text x={WIDTH - 12} y="108" fontSize="12" textAnchor="end" fill="var(--ink-2)">
          {words(to)}
        </text>
      </svg>
      <p className="text-sm text-ink-2">Filled: arrived or offered. Hollow and struck: not offered.</p>
    </section>
  );
}

function Mark({ one, x }: { one: Seen; x: number }) {
  const came = one.result !== "not-offered";
  const colour = came ? "var(--met)" : "var(--floor)";
  return (
    <g>
      <title>{`${day(one.seen_on)}: ${one.result} ${one.reason}`}</title>
      <circle cx={x} cy="0" r="7" fill={came ? colour : "var(--slab)"} stroke={colour} strokeWidth="2" />
      {!came && <path d={`M${x - 4} 4L${x + 4} -4`} stroke={colour} strokeWidth="2" />}
    </g>
  );
}
