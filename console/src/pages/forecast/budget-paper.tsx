// The budget paper: budgets side by side, replacements per quarter, prices, the minimum specification of a new machine.
import { api } from "../../api/api";
import { useHere } from "../../frame/here";
import { count, Empty, Heading, Labelled, Loaded, PageLink, Scroll, useParam } from "../../ui/parts";
import { WAY_WORDS } from "./ways";

const counted = (of: Record<string, number>) => Object.entries(of);

export function BudgetPaperPage() {
  const { platform } = useHere();
  const [budgets, setBudgets] = useParam("budgets", "5000,20000");
  const query = { platform: platform.id, budgets };
  const found = api.useQuery("get", "/api/v1/budget-paper", { params: { query } });
  const address = (path: string) => `/api/v1/${path}?${new URLSearchParams(query)}`;
  return (
    <>
      <Heading title="Budget paper">
        For the owner of the budget and whoever buys. One budget, device by device: <PageLink to="/plan">Plan</PageLink>
        .
      </Heading>
      <div className="slab my-4 flex flex-wrap items-end gap-x-6 gap-y-3">
        <Labelled label="Budgets" hint="Up to six amounts, parted by commas.">
          <input
            className="field"
            defaultValue={budgets}
            key={budgets}
            onBlur={(event) => setBudgets(event.target.value)}
            onKeyDown={(event) => event.key === "Enter" && setBudgets(event.currentTarget.value)}
          />
        </Labelled>
        <p className="pb-2">
          <a href={address("budget-paper/page")}>Page to print</a> ·{" "}
          <a href={address("budget-paper.csv")}>Quarters as a table (CSV)</a>
        </p>
      </div>
      <Loaded of={found} what="the paper">
        {(paper) => (
          <>
            <p role="status" className="mb-3">
              {count(paper.devices, "device")} as of {paper.as_of}. Without any money they have {paper.without_money}{" "}
              serviced device-months before them.
            </p>
            <h2 className="mb-2 mt-6">What each budget buys</h2>
            <Table
              label="What each budget buys"
              heads={["Budget", "Spent", "Serviced device-months", "No plan gives more than", "Devices"]}
              rows={paper.budgets.map((one) => [
                one.budget,
                one.cost,
                one.months,
                one.at_most,
                counted(one.ways).map(([way, devices]) => `${devices} ${WAY_WORDS[way]}`),
              ])}
            />
            <h2 className="mb-2 mt-6">Replacements per quarter</h2>
            <p className="mb-2 text-ink-2">
              Each device in the quarter in which its runway ends, exceptions granted, at the price of that time.
            </p>
            {paper.replacements.quarters.length === 0 ? (
              <Empty>No device has to be replaced as far as the sheet looks.</Empty>
            ) : (
              <Table
                label="Replacements per quarter"
                heads={["Quarter", "First by", "Devices", "Each", "Cost", "Their runway ends because"]}
                rows={paper.replacements.quarters.map((one) => [
                  one.label,
                  one.first_end,
                  String(one.devices),
                  one.price,
                  one.cost,
                  counted(one.ends).map(([why, devices]) => `${why} (${devices})`),
                ])}
              />
            )}
            {paper.replacements.beyond > 0 && (
              <p className="mt-2">
                {count(paper.replacements.beyond, "device")} need none as far as the sheet looks, the first of them
                until {paper.replacements.beyond_until}.
              </p>
            )}
            {counted(paper.replacements.unknown).length > 0 && (
              <>
                <p className="mt-2">Not known before it is read or settled:</p>
                <ul className="ml-5 list-disc">
                  {counted(paper.replacements.unknown).map(([why, devices]) => (
                    <li key={why}>
                      {why}: {count(devices, "device")}
                    </li>
                  ))}
                </ul>
              </>
            )}
            <h2 className="mb-2 mt-6">Price list</h2>
            <Table
              label="Price list"
              heads={["From", "A new device"]}
              rows={paper.prices.map((one) => [one.since, one.price])}
            />
            <h2 className="mb-2 mt-6">Minimum specification of a new machine</h2>
            <p className="mb-2 text-ink-2">
              What it has to meet for the last release of the sheet without an exception, and from which release on it
              does not run otherwise.
            </p>
            <Table
              label="Minimum specification"
              heads={["Part", "Asks", "Without it", "Requirement"]}
              rows={paper.specification.map((one) => [
                one.title,
                one.asks,
                one.floor_from ? `${one.floor_from} does not run` : "set-up refuses",
                `${one.requirement}, from ${one.since}`,
              ])}
            />
          </>
        )}
      </Loaded>
    </>
  );
}

/** Rows of words; a cell of several is a list. */
function Table({ label, heads, rows }: { label: string; heads: string[]; rows: (string | string[])[][] }) {
  return (
    <Scroll label={label} className="slab p-0 sm:p-0">
      <table className={`w-full ${heads.length > 2 ? "min-w-[44rem]" : ""}`}>
        <thead>
          <tr className="[&>th]:px-3 [&>th]:py-2">
            {heads.map((head) => (
              <th key={head} scope="col">
                {head}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.join("|")}>
              {row.map((cell, at) => (
                <td
                  key={heads[at]}
                  className={`cell tabular-nums ${typeof cell === "string" && cell.length < 14 ? "whitespace-nowrap" : ""}`}
                >
                  {Array.isArray(cell) ? cell.map((line) => <div key={line}>{line}</div>) : cell}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}
