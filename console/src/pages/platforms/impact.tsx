// What loading a sheet or a list would change: words, states, runways, costs, what is touched.
import type { Impact } from "../../api/api";
import { count, day } from "../../ui/parts";

/** What loading would change. */
export function Shows({ impact }: { impact: Impact }) {
  if (!impact.changed)
    return (
      <p role="status">
        This is revision {impact.revision} of {impact.name}, already loaded.
      </p>
    );
  if (impact.revision === 0) return <p role="status">This is the first sheet of {impact.name}.</p>;
  const touched = [...impact.relying, ...impact.exceptions, ...impact.kits];
  return (
    <div role="status" className="grid gap-4">
      <Changes changes={impact.changes} />
      <section>
        <h3 className="font-semibold">Devices that change state</h3>
        {impact.moves.length === 0 && <p className="text-ink-2">None.</p>}
        <ul>
          {impact.moves.map((move) => (
            <li key={`${move.release}${move.was}${move.becomes}`}>
              At {move.release}, {count(move.count, "device")}: {move.was} → <strong>{move.becomes}</strong>
              <span className="block text-sm text-ink-2">{move.devices.slice(0, 8).join(", ")}</span>
            </li>
          ))}
        </ul>
      </section>
      <Moves
        title="Runways that move"
        of={impact.runways.map((move) => ({
          ...move,
          what: move.line,
          was: day(move.was),
          becomes: day(move.becomes),
        }))}
      />
      <Moves
        title="Ways that cost otherwise"
        of={impact.costs.map((move) => ({
          ...move,
          what: move.way,
          was: move.was ?? "–",
          becomes: move.becomes ?? "–",
        }))}
      />
      <section>
        <h3 className="font-semibold">Overrides relied on, exceptions, kits</h3>
        {touched.length === 0 && <p className="text-ink-2">None is touched.</p>}
        <ul>
          {touched.map((one) => (
            <li key={one.id}>
              <strong>{one.id}</strong>: {one.words.join("; ")}
              <span className="block text-sm text-ink-2">{one.devices.join(", ") || "no device relies on it"}</span>
            </li>
          ))}
        </ul>
      </section>
    </div>
  );
}

interface Move {
  what: string;
  was: string;
  becomes: string;
  count: number;
  devices: string[];
}

function Moves({ title, of }: { title: string; of: Move[] }) {
  return (
    <section>
      <h3 className="font-semibold">{title}</h3>
      {of.length === 0 && <p className="text-ink-2">None.</p>}
      <ul>
        {of.map((move) => (
          <li key={`${move.what}${move.was}${move.becomes}`}>
            {move.what}, {count(move.count, "device")}: {move.was} → <strong>{move.becomes}</strong>
            <span className="block text-sm text-ink-2">{move.devices.slice(0, 8).join(", ")}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}

export function Changes({ changes }: { changes: Impact["changes"] }) {
  return (
    <ul className="space-y-1">
      {changes.map((change) => (
        <li key={`${change.kind}${change.subject}${change.words}`}>
          <span className="text-sm text-ink-2">{change.kind}</span> <strong>{change.subject}</strong>: {change.words}
        </li>
      ))}
      {changes.length === 0 && <li className="text-ink-2">Nothing that changes an answer.</li>}
    </ul>
  );
}
