// What must be ready before a kit of a device: its media, gates, routes, and the settings for afterwards.
import { api } from "../../api/api";
import type { operations } from "../../api/schema";
import { useHere } from "../../frame/here";
import { CheckboxField, Choice, Labelled, Loaded, Panel, Scroll } from "../../ui/parts";

type GateQuery = NonNullable<operations["device_gates"]["parameters"]["query"]>;

/** Which media the gates are asked of; the one that fits best unless another is chosen. */
export function MediaChoice({ release, media, set }: { release: string; media: string; set: (name: string) => void }) {
  const { platform } = useHere();
  const found = api.useQuery("get", "/api/v1/media", { params: { query: { platform: platform.id } } });
  const items = (found.data?.items ?? []).filter((one) => one.release === release || one.asked === release);
  const of = items.map((one) => [one.id, `${one.id}: ${one.release}, ${one.language}, ${one.arch}`] as const);
  return <Choice label="Media" value={media} set={set} of={of} nothing="the one that fits best" />;
}

const IN_PLACE = {
  "in-place": "in place already, by its facts",
  "not-in-place": "not in place, by its facts",
  unread: "unread whether it is in place",
  "not-stated": "",
} as const;

/** The organisation's own settings for after the upgrade, to be put into the kit or not. */
export function Sets({
  device,
  chosen,
  choose,
}: {
  device: string;
  chosen: string[];
  choose: ((names: string[]) => void) | null;
}) {
  const found = api.useQuery("get", "/api/v1/devices/{device}/sets", { params: { path: { device } } });
  if (found.data?.items.length === 0) return null;
  return (
    <Panel title="Settings for afterwards">
      <Loaded of={found} what="the settings sets">
        {(data) => (
          <ul className="space-y-3">
            {data.items.map((one) => (
              <li key={one.id}>
                {choose ? (
                  <CheckboxField
                    label={one.title}
                    checked={chosen.includes(one.id)}
                    set={(on) => choose(on ? [...chosen, one.id] : chosen.filter((name) => name !== one.id))}
                  />
                ) : (
                  <strong>{one.title}</strong>
                )}
                <p className="text-sm text-ink-2">
                  {one.why} {IN_PLACE[one.in_place] && <strong>{IN_PLACE[one.in_place]}. </strong>}
                  {one.settings.map((held) => `${held.section}/${held.name} = ${held.value}`).join("; ")}
                </p>
              </li>
            ))}
          </ul>
        )}
      </Loaded>
    </Panel>
  );
}

/** Both routes side by side: which overrides, what stops it, what is kept. */
export function Routes({ device, release }: { device: string; release: string }) {
  const path = { path: { device }, query: { release } };
  const found = api.useQuery("get", "/api/v1/devices/{device}/routes", { params: path });
  return (
    <Panel title="Routes side by side">
      <Loaded of={found} what="the routes">
        {(data) => (
          <Scroll label="Routes side by side">
            <table className="w-full">
              <thead>
                <tr className="[&>th]:px-3">
                  <th scope="col">Route</th>
                  <th scope="col">Overrides</th>
                  <th scope="col">Stopped by</th>
                  <th scope="col">Keeps</th>
                </tr>
              </thead>
              <tbody>
                {data.items.map((one) => (
                  <tr key={one.route}>
                    <th scope="row" className="cell text-base font-semibold text-ink">
                      {one.route}
                    </th>
                    <td className="cell">
                      {one.chosen === null ? (
                        <span className="text-floor">nothing covers {one.uncovered.join(", ")}</span>
                      ) : (
                        one.chosen.join(", ") || "none needed"
                      )}
                      {one.excess.length > 0 && (
                        <span className="block text-sm text-ink-2">also switches off {one.excess.join(", ")}</span>
                      )}
                      {one.restart && <span className="block text-sm text-ink-2">restart before set-up</span>}
                    </td>
                    <td className="cell">
                      {one.stops.join(", ") || "nothing"}
                      {one.warns.length > 0 && (
                        <span className="block text-sm text-check">warned of: {one.warns.join(", ")}</span>
                      )}
                    </td>
                    <td className="cell">{one.keeps.join(" or ")}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Scroll>
        )}
      </Loaded>
    </Panel>
  );
}

const GATE_COLOURS: Record<string, string> = {
  holds: "text-met",
  warns: "text-check",
  stops: "text-floor",
  unread: "text-open",
};

/** What must hold before a kit may be used, measured today; a warning can be waived with a reason, a stop cannot. */
export function Gates({
  device,
  query,
  waived,
  waive,
}: {
  device: string;
  query: GateQuery;
  waived: Record<string, string>;
  waive: ((next: Record<string, string>) => void) | null;
}) {
  const found = api.useQuery("get", "/api/v1/devices/{device}/gates", {
    params: { path: { device }, query },
  });
  return (
    <Panel title="Gates">
      <Loaded of={found} what="the gates">
        {(data) => (
          <ul>
            {data.items.map((gate) => (
              <li key={gate.id} className="border-t border-edge py-2 first:border-0">
                <p className="flex justify-between gap-x-4">
                  <span>
                    {gate.title}{" "}
                    <span className="text-sm text-ink-2">
                      ({gate.measured}; asked: {gate.asks})
                    </span>
                  </span>
                  <strong className={GATE_COLOURS[gate.result] ?? ""}>{gate.result}</strong>
                </p>
                {gate.result !== "holds" && <p className="text-ink-2">{gate.todo}</p>}
                {gate.waivable && waive && (
                  <Labelled label={`Why ${gate.id} does not matter here`}>
                    <input
                      className="field"
                      value={waived[gate.id] ?? ""}
                      onChange={(event) => waive({ ...waived, [gate.id]: event.target.value })}
                    />
                  </Labelled>
                )}
              </li>
            ))}
          </ul>
        )}
      </Loaded>
    </Panel>
  );
}
