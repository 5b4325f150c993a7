// A device's future as a line of stones: each release's serviced days, the moves, today, and where it ends.
import type { Forecast } from "../api/api";
import { day } from "./parts";

const WIDTH = 720;
const ROW = 34;
const LEFT = 64;
const at = (iso: string) => Date.parse(`${iso}T00:00:00Z`);

export function Timeline({ data }: { data: Forecast }) {
  const { forecast, as_of: today } = data;
  const known = data.releases.filter((release) => release.servicing_ends[data.edition]);
  const shown = known.filter(
    (release) =>
      release.id === forecast.release ||
      (forecast.reaches.some((reach) => reach.release === release.id) &&
        (release.servicing_ends[data.edition] ?? "") >= today),
  );
  const from = Math.min(at(today), ...shown.map((release) => Math.max(at(release.published), at(today) - 9e9)));
  const to = Math.max(at(today), ...shown.map((release) => at(release.servicing_ends[data.edition] ?? today)));
  const x = (time: number) => LEFT + ((WIDTH - LEFT - 8) * (time - from)) / Math.max(1, to - from);
  const height = shown.length * ROW + 46;
  const possible = (id: string) =>
    id === forecast.release ||
    forecast.reaches.some((r) => r.release === id && ["offered", "clean", "by-exception", "after-fix"].includes(r.way));
  const used = new Set([forecast.release, ...forecast.technical.moves.map((move) => move.release)]);
  const words = `Technically until ${day(forecast.technical.runway)}; as approved until ${day(forecast.approved.runway)}`;
  const ends = [
    ["technical", forecast.technical.runway, "var(--ink)"],
    ["approved", forecast.approved.runway, "var(--accent)"],
  ] as const;
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable
    <section className="relative overflow-x-auto" tabIndex={0} aria-label="Timeline">
      <svg viewBox={`0 0 ${WIDTH} ${height}`} className="w-full min-w-[34rem]" role="img" aria-label={words}>
        {years(from, to).map((year) => (
          <g key={year}>
            <path d={`M${x(at(`${year}-01-01`))} 0V${height - 22}`} stroke="var(--edge)" />
            <text x={x(at(`${year}-01-01`)) + 4} y={height - 8} fontSize="12" fill="var(--ink-2)">
              {year}
            </text>
          </g>
        ))}
        {shown.map((release, row) => {
          const first = x(Math.max(at(release.published), from));
          const last = x(at(release.servicing_ends[data.edition] ?? today));
          const open = possible(release.id);
          return (
            <g key={release.id}>
              <text x="4" y={row * ROW + 21} fontSize="15" fontWeight="600" fill="var(--ink)">
                {release.id}
              </text>
              <rect
                x={first}
                y={row * ROW + 6}
                width={Math.max(2, last - first)}
                height={ROW - 14}
                rx="3"
                fill={open ? "var(--met)" : "none"}
                fillOpacity={used.has(release.id) ? 0.75 : 0.3}
                stroke={open ? "var(--met)" : "var(--floor)"}
                strokeDasharray={open ? "none" : "5 4"}
              >
                <title>{`${release.id}: ${day(release.published)} to ${day(release.servicing_ends[data.edition])}`}</title>
              </rect>
            </g>
          );
        })}
        <path d={`M${x(at(today))} 0V${height - 22}`} stroke="var(--ink)" strokeWidth="1.5" />
        <text x={x(at(today)) + 4} y={height - 26} fontSize="12" fill="var(--ink)">
          today
        </text>
        {ends.map(([name, runway, colour], which) =>
          runway ? (
            <g key={name}>
              <path
                d={`M${x(at(runway))} 0V${height - 22}`}
                stroke={colour}
                strokeWidth="2.5"
                strokeDasharray={which ? "2 3" : "none"}
              />
              <text
                x={x(at(runway)) - 5}
                y={height - 26 - which * 14}
                fontSize="12"
                fontWeight="600"
                textAnchor="end"
                fill={colour}
              >
                {name}
              </text>
            </g>
          ) : null,
        )}
      </svg>
    </section>
  );
}

function years(from: number, to: number): number[] {
  const first = new Date(from).getUTCFullYear() + 1;
  const last = new Date(to).getUTCFullYear();
  return Array.from({ length: Math.max(0, last - first + 1) }, (_, n) => first + n);
}
