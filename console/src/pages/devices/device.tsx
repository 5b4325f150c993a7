import { Tabs } from "radix-ui";
import { useEffect } from "react";
import { useParams } from "react-router";
import { api, type Course, type UncoveredBrief } from "../../api/api";
import { useHere } from "../../frame/here";
import { StateMark } from "../../ui/mark";
import { day, Heading, Loaded, PageLink, Panel, useParam } from "../../ui/parts";
import { FindingStrip } from "../../ui/strip";
import { AfterTab } from "./device-attempts";
import { ExceptionsTab } from "./device-exceptions";
import { FactsTab } from "./device-facts";
import { FindingsTab } from "./device-findings";
import { FixesTab } from "./device-fixes";
import { ForecastTab } from "./device-forecast";
import { KitTab } from "./device-kit";
import { LifeBanner } from "./device-life";
import { ReadingsTab } from "./device-readings";

const TABS = [
  ["findings", "Findings"],
  ["fixes", "Fixes"],
  ["facts", "Facts"],
  ["readings", "Readings"],
  ["exceptions", "Exceptions"],
  ["kit", "Kit"],
  ["after", "After"],
  ["forecast", "Forecast"],
] as const;

export function DevicePage() {
  const { device = "" } = useParams();
  const { platform } = useHere();
  const [asked] = useParam("release");
  const [, setPlatform] = useParam("platform");
  const [tab, setTab] = useParam("tab", "findings");
  const known = platform.releases.some((one) => one.id === asked);
  const query = { params: { path: { device }, query: { release: known ? asked : "" } } };
  const found = api.useQuery("get", "/api/v1/devices/{device}", query);
  const assessment = api.useQuery("get", "/api/v1/devices/{device}/assessment", query);
  const own = found.data?.device.platform;
  const release = found.data?.target ?? "";
  // A device brings its platform along: the rail and every link follow it.
  // biome-ignore lint/correctness/useExhaustiveDependencies: only when the device's platform is another
  useEffect(() => {
    if (own && own !== platform.id) setPlatform(own);
  }, [own, platform.id]);
  return (
    <Loaded of={found} what={device}>
      {(data) => (
        <>
          <Heading title={device}>
            {data.device.name} · {data.device.role} · {data.device.site} · {data.device.model} · runs{" "}
            {data.device.release}, {data.device.edition}
            {data.device.critical && <strong className="text-floor"> · critical</strong>}
          </Heading>
          <LifeBanner data={data} />
          <div className="mb-5 grid gap-4">
            <Panel
              title={`Against ${release}`}
              aside={
                <span className="flex flex-wrap items-center gap-x-3">
                  {data.device.release === release && <span className="text-ink-2">it runs {release} already</span>}
                  {data.device.state && <StateMark state={data.device.state} />}
                </span>
              }
            >
              <Loaded of={assessment} what="the findings">
                {(found) => <FindingStrip findings={found.findings} />}
              </Loaded>
            </Panel>
            {data.uncovered && <UncoveredSlab device={device} release={data.device.release} found={data.uncovered} />}
            <CourseSlab course={data.course} away={!!data.life && data.life.life !== "in-service"} />
          </div>
          <Tabs.Root value={tab} onValueChange={setTab}>
            <Tabs.List
              aria-label={`About ${device}`}
              className="mb-4 flex gap-1 overflow-x-auto border-b border-edge p-1 pb-0"
            >
              {TABS.map(([name, words]) => (
                <Tabs.Trigger key={name} value={name} className="tab">
                  {words}
                </Tabs.Trigger>
              ))}
            </Tabs.List>
            <Tabs.Content value="findings">
              <Loaded of={assessment} what="the findings">
                {(found) => (
                  <FindingsTab
                    device={device}
                    release={release}
                    platform={data.device.platform}
                    findings={found.findings}
                  />
                )}
              </Loaded>
            </Tabs.Content>
            <Tabs.Content value="fixes">
              <FixesTab device={device} release={release} />
            </Tabs.Content>
            <Tabs.Content value="facts">
              <FactsTab data={data} />
            </Tabs.Content>
            <Tabs.Content value="readings">
              <ReadingsTab device={device} verdicts={data.verdicts} />
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
    </Loaded>
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

function UncoveredSlab({ device, release, found }: { device: string; release: string; found: UncoveredBrief }) {
  return (
    <section
      aria-label="Uncovered"
      className="slab flex flex-wrap items-baseline gap-x-4 gap-y-1 border-l-4 border-l-floor"
    >
      <h2 className="text-ink-2">Uncovered</h2>
      <p>
        It runs {release} without a valid exception for <strong>{found.requirements.join(", ")}</strong> since{" "}
        {!found.exact && "at least "}
        <strong>{day(found.since)}</strong>.
      </p>
      <PageLink to={`/devices/${device}?tab=exceptions`}>Its exceptions</PageLink>
    </section>
  );
}

function CourseSlab({ course, away }: { course: Course | null; away: boolean }) {
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
        <p>{away ? "It is not in service." : "The sheet does not know the release that this device runs."}</p>
      )}
    </section>
  );
}
