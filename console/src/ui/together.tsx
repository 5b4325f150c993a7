// Which requirements fail together: a column per set, a stone where the requirement is in it.
import { Panel, Scroll } from "./parts";

type FailingTogether = { requirements: string[]; devices: number };

export function Together({ combinations, requirements }: { combinations: FailingTogether[]; requirements: string[] }) {
  const sets = combinations.slice(0, 12);
  const most = Math.max(1, ...sets.map((set) => set.devices));
  const names = requirements.filter((name) => sets.some((set) => set.requirements.includes(name)));
  if (sets.length === 0) return null;
  return (
    <Panel title="What fails together">
      <Scroll label="Sets of requirements that fail together">
        <table className="text-sm">
          <thead>
            <tr>
              <th scope="col" className="pr-3 align-bottom">
                Devices
              </th>
              {sets.map((set) => (
                <td key={set.requirements.join()} className="px-1 align-bottom">
                  <span className="mx-auto flex w-7 flex-col items-center">
                    {set.devices}
                    <svg viewBox="0 0 20 60" className="h-14 w-5" aria-hidden="true">
                      <rect x="3" y={60 - (58 * set.devices) / most} width="14" height="60" fill="var(--ink-2)" />
                    </svg>
                  </span>
                </td>
              ))}
            </tr>
          </thead>
          <tbody>
            {names.map((name) => (
              <tr key={name}>
                <th scope="row" className="border-t border-edge pr-3 whitespace-nowrap">
                  {name}
                </th>
                {sets.map((set) => {
                  const inside = set.requirements.includes(name);
                  return (
                    <td key={set.requirements.join()} className="border-t border-edge px-1 text-center">
                      {inside ? (
                        <>
                          <span aria-hidden="true" className="mx-auto block size-3 rounded-[2px] bg-ink" />
                          <span className="sr-only">fails</span>
                        </>
                      ) : (
                        <span aria-hidden="true" className="mx-auto block h-px w-3 bg-edge" />
                      )}
                    </td>
                  );
                })}
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
      {combinations.length > sets.length && (
        <p className="mt-2 text-sm text-ink-2">
          The {sets.length} most frequent of {combinations.length} sets.
        </p>
      )}
    </Panel>
  );
}
