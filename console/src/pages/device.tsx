import { Tabs } from "radix-ui";
import { useParams } from "react-router";
import { api, type Course } from "../api/api";
import type { components } from "../api/schema";
import { useHere } from "../frame";
import { StateMark } from "../ui/mark";
import { day, Heading, Shown, Slab, useParam } from "../ui/parts";
import { FindingStrip } from "../ui/strip";
import { AfterTab } from "./device-after";
import { ExceptionsTab } from "./device-exceptions";
import { FindingsTab } from "./device-findings";
import { ForecastTab } from "./device-forecast";
import { KitTab } from "./device-kit";

type Detail = components["schemas"]["DeviceDetail"];
export type DeviceProps = { device: string; release: string };

const TABS = [
  ["findings", "Findings"],
  ["facts", "Facts"],
  ["exceptions", "Exceptions"],
  ["kit", "Kit"],
  ["after", "After"],
  ["forecast", "Forecast"],
] as const;

export function DevicePage() {
  const { device = "" } = useParams();
  const { release } = useHere();
  const [tab, setTab] = useParam("tab", "findings");
  const query = { params: { path: { device }, query: { release } } };
  const found = api.useQuery("get", "/api/v1/devices/{device}", query);
  const assessment = api.useQuery("get", "/api/v1/devices/{device}/assessment", query);
  return (
    <Shown of={found} what={device}>
      {(data) => (
        <>
          <Heading title={device}>
            {data.device.name} · {data.device.role} · {data.device.site} · {data.device.model} · runs{" "}
            {data.device.release}, {data.device.edition}
            {data.device.critical && <strong className="text-floor"> · critical</strong>}
          </Heading>
          <div className="mb-5 grid gap-4">
            <Slab
              title={`Against ${release}`}
              aside={
                <span className="flex flex-wrap items-center gap-x-3">
                  {data.device.release === release && <span className="text-ink-2">it runs {release} already</span>}
                  <StateMark state={data.device.state} />
                </span>
              }
            >
              <Shown of={assessment} what="the findings">
                {(found) => <FindingStrip findings={found.findings} />}
              </Shown>
            </Slab>
            <CourseSlab course={data.course} />
          </div>
          <Tabs.Root value={tab} onValueChange={setTab}>
            <Tabs.List
              aria-label={`About ${device}`}
              className="mb-4 flex gap-1 overflow-x-auto border-b border-edge p-1 pb-0"
            >
              {TABS.map(([name, words]) => (
                <Tabs.Trigger
                  key={name}
                  value={name}
                  className="cursor-pointer border-b-3 border-transparent px-3 py-2 text-ink-2 hover:text-ink data-[state=active]:border-accent data-[state=active]:font-semibold data-[state=active]:text-ink"
                >
                  {words}
                </Tabs.Trigger>
              ))}
            </Tabs.List>
            <Tabs.Content value="findings">
              <Shown of={assessment} what="the findings">
                {(found) => <FindingsTab device={device} release={release} findings={found.findings} />}
              </Shown>
            </Tabs.Content>
            <Tabs.Content value="facts">
              <Facts data={data} />
            </Tabs.Content>
            <Tabs.Content value="exceptions">
              <ExceptionsTab device={device} release={release} />
            </Tabs.Content>
            <Tabs.Content value="kit">
              <KitTab device={device} release={release} />
            </Tabs.Content>
            <Tabs.Content value="after">
              <AfterTab device={device} release={release} />
            </Tabs.Content>
            <Tabs.Content value="forecast">
              <ForecastTab device={device} release={release} />
            </Tabs.Content>
          </Tabs.Root>
        </>
      )}
    </Shown>
  );
}

const WAYS: Record<Course["way"], string> = {
  take: "Take it",
  fix: "Fix it",
  except: "Except it",
  read: "Read it again",
  stay: "Stay",
  retire: "Retire",
};

function CourseSlab({ course }: { course: Course | null }) {
  return (
    <section
      aria-label="Course"
      className="slab flex flex-wrap items-baseline gap-x-4 gap-y-1 border-l-4 border-l-accent"
    >
      <h2 className="text-ink-2">Course</h2>
      {course ? (
        <>
          <p className="font-head text-2xl font-semibold">{WAYS[course.way]}</p>
          {course.by && (
            <p>
              {course.way === "stay" ? "until" : "by"} <strong>{day(course.by)}</strong>
            </p>
          )}
          <p className="text-ink-2">{course.why}.</p>
        </>
      ) : (
        <p>The sheet does not know the release that this device runs.</p>
      )}
    </section>
  );
}

function Facts({ data }: { data: Detail }) {
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable
    <section className="slab relative overflow-x-auto" tabIndex={0} aria-label="Facts">
      <table className="w-full">
        <thead>
          <tr className="[&>th]:px-3 [&>th]:pb-2">
            <th scope="col">Fact</th>
            <th scope="col">Believed</th>
            <th scope="col">From</th>
            <th scope="col">Read on</th>
          </tr>
        </thead>
        <tbody>
          {data.facts.map((fact) => (
            <tr key={fact.name}>
              <th scope="row" className="cell font-normal text-ink">
                {fact.title || fact.name}
                <code className="block text-xs text-ink-2">{fact.name}</code>
              </th>
              <td className="cell font-semibold">
                {fact.believed.value}
                {fact.aged && <span className="block text-sm font-normal text-floor">too old to count</span>}
                {fact.rivals.map((rival) => (
                  <span key={rival.source} className="block text-sm font-normal text-open">
                    ≠ {rival.value} ({rival.source}, {day(rival.taken_at)})
                  </span>
                ))}
              </td>
              <td className="cell">{fact.believed.source}</td>
              <td className="cell whitespace-nowrap">{day(fact.believed.taken_at)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
