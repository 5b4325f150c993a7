// A plan for a budget: which way each device takes so that the money buys the most serviced device-months.
import { api, client, useSend } from "../../api/api";
import { useHere } from "../../frame/here";
import { Chooser, useChosen } from "../../ui/chooser";
import {
  Button,
  CheckboxField,
  count,
  Empty,
  Heading,
  Labelled,
  Loaded,
  PageLink,
  Scroll,
  useParam,
} from "../../ui/parts";

const WAYS = {
  take: "what is offered",
  fix: "fixes",
  except: "exceptions",
  extend: "paid servicing",
  replace: "replacement",
} as const;
type Way = keyof typeof WAYS;
const NAMES: Record<string, string> = { ...WAYS, stay: "stays as it is" };

function download(blob: Blob, name: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}

export function PlanPage() {
  const { platform } = useHere();
  const { where } = useChosen();
  const [budget, setBudget] = useParam("budget", "5000");
  const [left, setLeft] = useParam("without");
  const without = left.split(",").filter((name): name is Way => name in WAYS);
  const { selection, ...conditions } = where;
  const whole = { ...conditions, requirement: "", mark: "", words: "" };
  const body = { platform: platform.id, budget: budget || "0", selection, where: whole, without };
  const found = api.useQuery("post", "/api/v1/plan", { body });
  const save = useSend(async () => {
    const table = await client.POST("/api/v1/plan.csv", { body, parseAs: "blob" });
    if (table.data) download(table.data as Blob, "plan.csv");
  });
  const leave = (way: Way, on: boolean) =>
    setLeft((on ? without.filter((name) => name !== way) : [...without, way]).join(","));
  return (
    <>
      <Heading title="Plan">
        What a budget buys: the most serviced device-months for the money. Several budgets side by side, replacements
        per quarter and what a new machine has to meet: <PageLink to="/budget-paper">Budget paper</PageLink>.
      </Heading>
      <Chooser />
      <div className="slab my-4 flex flex-wrap items-end gap-x-6 gap-y-3">
        <Labelled label="Budget">
          <input
            className="field"
            type="number"
            min="0"
            max="1000000000"
            value={budget}
            onChange={(event) => setBudget(event.target.value)}
          />
        </Labelled>
        <fieldset>
          <legend className="mb-1 font-semibold">Ways to think of</legend>
          <div className="flex flex-wrap gap-x-5 gap-y-1">
            {(Object.keys(WAYS) as Way[]).map((way) => (
              <CheckboxField
                key={way}
                label={WAYS[way]}
                checked={!without.includes(way)}
                set={(on) => leave(way, on)}
              />
            ))}
          </div>
        </fieldset>
      </div>
      <Loaded of={found} what="the plan">
        {(data) => (
          <>
            <Button
              quiet
              className="float-right ml-4"
              disabled={save.isPending || data.lines.length === 0}
              onClick={() => save.mutate()}
            >
              As a table (CSV)
            </Button>
            <p role="status" className="mb-3">
              <strong>{data.cost}</strong> of {data.budget} buys <strong>{data.months}</strong> serviced device-months
              for {count(data.devices, "device")}, against {data.without_money} without money. No plan for this budget
              gives more than {data.at_most}.
            </p>
            {data.lines.length === 0 ? (
              <Empty>No device is chosen.</Empty>
            ) : (
              <Scroll label="The plan" className="slab p-0 sm:p-0">
                <table className="w-full">
                  <thead>
                    <tr className="[&>th]:px-3 [&>th]:py-2">
                      <th scope="col">Way</th>
                      <th scope="col">Devices</th>
                      <th scope="col">Model</th>
                      <th scope="col" className="text-right">
                        Each
                      </th>
                      <th scope="col" className="text-right">
                        Cost
                      </th>
                      <th scope="col" className="text-right">
                        Months each
                      </th>
                      <th scope="col">How</th>
                    </tr>
                  </thead>
                  <tbody>
                    {data.lines.map((line) => (
                      <tr key={`${line.way}${line.model}${line.each}${line.how}${line.months_each}`}>
                        <td className="cell font-semibold">{NAMES[line.way]}</td>
                        <td className="cell">{line.count}</td>
                        <td className="cell">{line.model}</td>
                        <td className="cell text-right tabular-nums">{line.each}</td>
                        <td className="cell text-right tabular-nums">{line.cost}</td>
                        <td className="cell text-right tabular-nums">{line.months_each}</td>
                        <td className="cell text-sm text-ink-2">{line.how}</td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              </Scroll>
            )}
          </>
        )}
      </Loaded>
    </>
  );
}
