// What is due: by day, for oneself or for everybody.
import { clsx } from "clsx";
import { api, type DueKind, type LateCost } from "../../api/api";
import { CheckboxField, Choice, day, Empty, Heading, Loaded, PageLink, Scroll, useParam } from "../../ui/parts";

const KINDS: Record<DueKind, string> = {
  "request-waits": "Decide",
  "answer-waits": "Answer",
  "second-look": "Look again",
  "owner-left": "Transfer",
  review: "Review",
  lapse: "Renew or end",
  condition: "Attest",
  "follow-up": "Follow up",
  "rollback-ends": "Last day to go back",
  "servicing-ends": "Take the next release",
  "kit-expires": "Use the kit",
  "media-link-ends": "Ask for the media again",
  uncovered: "Cover or go back",
  "floor-runs": "Sort anew",
  "floor-found": "Sort it",
  refused: "Find out why",
  "failure-unmatched": "Match the words",
  "fix-not-seen": "Fix again",
  drift: "Apply again",
  "went-back": "Decide",
  "release-late": "Correct the sheet",
  "not-heard-from": "Read again",
  "reading-expired": "Read again",
  "reading-expires": "Read again",
  unplaced: "Place it",
  "sheet-task": "Work it off",
  "look-again": "Bring back or retire",
  "read-after-retired": "Find out",
  "data-not-wiped": "Erase its data",
  "standing-differs": "Look into it",
  check: "Check updates",
};

const IF_LATE: Record<LateCost, string> = {
  permission: "runs without permission",
  lost: "cannot be made good",
  waiting: "somebody waits",
  unknown: "nobody knows",
};

/** The page of what an item is about. */
export const placeOf = (one: { kind: string; object_kind: string; object: string }) =>
  one.kind === "unplaced"
    ? "/unplaced"
    : ({ platform: "/sheets", media: "/media", task: "/tasks" }[one.object_kind] ??
      `/${one.object_kind}s/${one.object}`);

const isKind = (name: string): name is DueKind => name in KINDS;

export function DuePage() {
  const [all, setAll] = useParam("all");
  const [kind, setKind] = useParam("kind");
  const query = { mine: !all, kind: isKind(kind) ? kind : undefined };
  const found = api.useQuery("get", "/api/v1/due", { params: { query } });
  return (
    <>
      <Heading title="Due">
        What is to be done, what costs most to be late with first. Your calendar can show it too: see your own page.
      </Heading>
      <div className="mb-3 flex flex-wrap items-end gap-4">
        <Choice label="What" value={kind} set={setKind} of={Object.entries(KINDS)} />
        <CheckboxField label="Show everyone's" checked={all === "1"} set={(on) => setAll(on ? "1" : "")} />
      </div>
      <Loaded of={found} what="what is due">
        {(data) =>
          data.items.length === 0 ? (
            <Empty>Nothing is due{all ? "" : " for you"}.</Empty>
          ) : (
            <Scroll label="Due" className="slab p-0 sm:p-0">
              <table className="w-full">
                <thead>
                  <tr className="[&>th]:px-3 [&>th]:py-2">
                    <th scope="col">By</th>
                    <th scope="col">To do</th>
                    <th scope="col">What</th>
                    <th scope="col">If late</th>
                  </tr>
                </thead>
                <tbody>
                  {data.items.map((one) => (
                    <tr key={`${one.kind}${one.object}${one.on}${one.words}`}>
                      <td className={clsx("cell whitespace-nowrap", one.overdue && "font-semibold text-floor")}>
                        {day(one.on)}
                        {one.overdue && <span className="block text-sm">overdue</span>}
                      </td>
                      <td className="cell font-semibold whitespace-nowrap">{KINDS[one.kind]}</td>
                      <td className="cell">
                        <PageLink to={placeOf(one)}>{one.object}</PageLink>
                        <span className="text-ink-2">{one.words.replace(one.object, "")}</span>
                      </td>
                      <td className="cell text-ink-2">{IF_LATE[one.late_cost]}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </Scroll>
          )
        }
      </Loaded>
    </>
  );
}
