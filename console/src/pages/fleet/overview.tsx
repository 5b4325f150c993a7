import { api } from "../../api/api";
import type { components } from "../../api/schema";
import { useHere } from "../../frame/here";
import { MarkBar, StateBar } from "../../ui/bars";
import { Glyph, MARKS, STATE_NAMES, StateMark } from "../../ui/mark";
import { count, day, Empty, Heading, Loaded, PageLink, Panel } from "../../ui/parts";
import { Together } from "../../ui/together";
import { placeOf } from "../due/due";

type Overview = components["schemas"]["OverviewResponse"];

export function OverviewPage() {
  const { platform, release } = useHere();
  const found = api.useQuery("get", "/api/v1/overview", { params: { query: { platform: platform.id, release } } });
  return (
    <>
      <Heading title="Overview">
        What stands between {platform.name} devices and release {release}.
      </Heading>
      <Loaded of={found} what="the overview">
        {(data) => (data.roll_up.devices === 0 ? <NoDevices /> : <Body data={data} />)}
      </Loaded>
    </>
  );
}

function NoDevices() {
  return (
    <Empty>
      No device has been read yet. Import readings on the <PageLink to="/readings">Readings page</PageLink>, or with{" "}
      <code>doorstone reading import FILE</code>.
    </Empty>
  );
}

function Body({ data }: { data: Overview }) {
  return (
    <div className="grid gap-4 lg:grid-cols-[1fr_19rem]">
      <div className="grid min-w-0 content-start gap-4">
        <States data={data} />
        <Requirements data={data} />
        <Together
          combinations={data.roll_up.combinations}
          requirements={data.roll_up.requirements.map((row) => row.requirement)}
        />
      </div>
      <div className="grid min-w-0 content-start gap-4">
        <Due />
        <Sites data={data} />
        <Running data={data} />
      </div>
    </div>
  );
}

function States({ data }: { data: Overview }) {
  const { states, devices } = data.roll_up;
  return (
    <Panel title={`${count(devices, "device")} against ${data.release}`}>
      <ul className="grid grid-cols-2 gap-2 sm:grid-cols-6">
        {STATE_NAMES.map((state) => (
          <li key={state}>
            <PageLink
              to={`/devices?state=${state}`}
              className="block h-full rounded-md border border-edge px-2 py-3 text-sm text-ink no-underline hover:border-ink-2"
            >
              <span className="block font-head text-3xl font-semibold">{states[state] ?? 0}</span>
              <StateMark state={state} />
            </PageLink>
          </li>
        ))}
      </ul>
      {data.uncovered > 0 && (
        <p className="mt-3">
          <PageLink to="/uncovered">{count(data.uncovered, "device")}</PageLink> {data.uncovered === 1 ? "runs" : "run"}{" "}
          what no exception in force permits.
        </p>
      )}
    </Panel>
  );
}

function Requirements({ data }: { data: Overview }) {
  return (
    <Panel title="Requirements" aside={<PageLink to="/sorting">How they are sorted</PageLink>}>
      <ul className="space-y-2">
        {data.roll_up.requirements.map((row) => {
          const unmet = Object.entries(row.marks).reduce((sum, [mark, n]) => sum + (mark === "met" ? 0 : n), 0);
          return (
            <li key={row.requirement} className="grid items-center gap-x-3 sm:grid-cols-[15rem_1fr_8rem]">
              <PageLink to={`/devices?requirement=${row.requirement}`}>{row.title}</PageLink>
              <MarkBar marks={row.marks} />
              <span className="text-sm text-ink-2 sm:text-right">
                {unmet ? `${unmet} do not meet it` : "all meet it"}
              </span>
            </li>
          );
        })}
      </ul>
      <p className="mt-4 flex flex-wrap gap-x-4 gap-y-1 text-sm">
        {(["met", "fixable", "installer-check", "floor", "unread"] as const).map((mark) => (
          <span key={mark} className={`inline-flex items-center gap-1 ${MARKS[mark].colour}`}>
            <svg viewBox="0 0 16 16" className="size-3.5" aria-hidden="true">
              <Glyph mark={mark} />
            </svg>
            {mark === "unread" ? "unread, disputed, unsorted" : MARKS[mark].words}
          </span>
        ))}
      </p>
    </Panel>
  );
}

const MOST_DUE = 10;

function Due() {
  const found = api.useQuery("get", "/api/v1/due", { params: { query: { mine: true } } });
  const more = (found.data?.items.length ?? 0) - MOST_DUE;
  return (
    <Panel
      title="Due for you"
      aside={<PageLink to="/due">{more > 0 ? `All of it, ${more} more` : "All of it"}</PageLink>}
    >
      <Loaded of={found} what="what is due">
        {(data) =>
          data.items.length === 0 ? (
            <Empty>Nothing is due for you.</Empty>
          ) : (
            <ul className="space-y-2">
              {data.items.slice(0, MOST_DUE).map((item) => (
                <li key={`${item.kind}${item.object}${item.words}`}>
                  <PageLink to={placeOf(item)}>{item.object}</PageLink>
                  {item.words.replace(item.object, "")}
                  <span className={`block text-sm ${item.overdue ? "text-floor" : "text-ink-2"}`}>
                    by {day(item.on)}
                    {item.overdue && ", overdue"}
                  </span>
                </li>
              ))}
            </ul>
          )
        }
      </Loaded>
    </Panel>
  );
}

function Sites({ data }: { data: Overview }) {
  return (
    <Panel title="Sites">
      <ul className="space-y-2.5">
        {data.sites.map((site) => {
          const total = Object.values(site.states).reduce((sum, n) => sum + n, 0);
          return (
            <li key={site.site}>
              <span className="flex justify-between">
                <PageLink to={`/devices?site=${encodeURIComponent(site.site)}`}>{site.site}</PageLink>
                <span className="text-ink-2">{total}</span>
              </span>
              <StateBar states={site.states} />
              {site.uncovered > 0 && (
                <PageLink to={`/uncovered?site=${encodeURIComponent(site.site)}`} className="text-sm">
                  {site.uncovered} without permission
                </PageLink>
              )}
            </li>
          );
        })}
      </ul>
    </Panel>
  );
}

function Running({ data }: { data: Overview }) {
  return (
    <Panel title="Running today">
      <ul className="space-y-2">
        {Object.entries(data.running).map(([release, n]) => {
          const known = data.releases.find((one) => one.id === release);
          return (
            <li key={release}>
              <span className="flex justify-between">
                <strong>{release}</strong> {count(n, "device")}
              </span>
              {Object.entries(known?.servicing_ends ?? {}).map(([edition, last]) => (
                <span
                  key={edition}
                  className={`block text-sm ${last < data.as_of ? "font-semibold text-floor" : "text-ink-2"}`}
                >
                  {edition} {last < data.as_of ? "ended" : "until"} {day(last)}
                </span>
              ))}
            </li>
          );
        })}
      </ul>
    </Panel>
  );
}
