import { useInfiniteQuery } from "@tanstack/react-query";
import { memo, useEffect, useState } from "react";
import { api, client } from "../../api/api";
import type { components } from "../../api/schema";
import { useHere } from "../../frame/here";
import { isMark, MARKS, STATE_NAMES, STATES, StateMark } from "../../ui/mark";
import { Choice, count, day, Empty, Heading, Labelled, Loaded, More, PageLink, useParam } from "../../ui/parts";
import { Strip } from "../../ui/strip";
import { ManyDevices } from "./devices-many";

export function DevicesPage() {
  const { platform, release } = useHere();
  const [state, setState] = useParam("state");
  const [site, setSite] = useParam("site");
  const [requirement, setRequirement] = useParam("requirement");
  const [mark, setMark] = useParam("mark");
  const [words, setWords] = useParam("words");
  const [role, setRole] = useParam("role");
  const [model, setModel] = useParam("model");
  const where = { platform: platform.id, release, state, site, role, model, requirement, mark, words };
  const sorting = api.useQuery("get", "/api/v1/sorting", { params: { query: { platform: platform.id, release } } });
  const found = useInfiniteQuery({
    queryKey: ["devices", where],
    initialPageParam: "",
    queryFn: async ({ pageParam }) => {
      const query = { ...where, cursor: pageParam, limit: 50 };
      const { data } = await client.GET("/api/v1/devices", { params: { query } });
      if (!data) throw new Error("no page");
      return data;
    },
    getNextPageParam: (page) => page.next,
    placeholderData: (old) => old,
  });
  const unplaced = api.useQuery("get", "/api/v1/unplaced");
  const away = api.useQuery("get", "/api/v1/lives");
  const first = found.data?.pages[0];
  return (
    <>
      <Heading title="Devices">Each with its findings against {release}, a stone per requirement.</Heading>
      <search className="slab mb-4 grid gap-3 sm:grid-cols-2 lg:grid-cols-4">
        <Search words={words} setWords={setWords} />
        <Choice label="State" value={state} set={setState} of={STATE_NAMES.map((s) => [s, STATES[s].words])} />
        <Choice label="Site" value={site} set={setSite} of={(first?.sites ?? []).map((s) => [s, s])} />
        <Choice label="Role" value={role} set={setRole} of={(first?.roles ?? []).map((s) => [s, s])} />
        <Choice label="Model" value={model} set={setModel} of={(first?.models ?? []).map((s) => [s, s])} />
        <Choice
          label="Without requirement"
          value={requirement}
          set={setRequirement}
          of={(sorting.data?.items ?? []).map((row) => [row.requirement, row.title])}
        />
        <Choice
          label="Whose mark is"
          value={mark}
          set={setMark}
          disabled={!requirement}
          of={Object.entries(MARKS).map(([name, known]) => [name, known.words])}
        />
      </search>
      {unplaced.data && unplaced.data.items.length > 0 && (
        <p className="mb-2 text-open">
          <PageLink to="/unplaced">{count(unplaced.data.items.length, "device")}</PageLink>{" "}
          {unplaced.data.items.length === 1 ? "is" : "are"} unplaced: no sheet knows the platform or release.
        </p>
      )}
      {away.data && away.data.items.length > 0 && (
        <p className="mb-2 text-ink-2">
          <PageLink to="/lives">{count(away.data.items.length, "device")}</PageLink>{" "}
          {away.data.items.length === 1 ? "is" : "are"} not in service and not listed here.
        </p>
      )}
      <Loaded of={found} what="the devices">
        {(data) => (
          <>
            <p role="status" className="mb-2 text-ink-2">
              {count(data.pages[0]?.total ?? 0, "device")}
              {requirement && isMark(mark) ? ` with ${requirement} ${MARKS[mark].words}` : ""}
            </p>
            {data.pages[0]?.total === 0 ? (
              <Empty>No device fits. Take a filter away.</Empty>
            ) : (
              // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable
              <section className="slab relative overflow-x-auto p-0 sm:p-0" tabIndex={0} aria-label="Devices">
                <table className="w-full min-w-[62rem] table-fixed">
                  <Columns stones={Object.keys(data.pages[0]?.items[0]?.marks ?? {}).length} />
                  <thead>
                    <tr className="[&>th]:px-3 [&>th]:py-2">
                      <th scope="col">Device</th>
                      <th scope="col">Site</th>
                      <th scope="col">Model</th>
                      <th scope="col">Runs</th>
                      <th scope="col">For {release}</th>
                      <th scope="col">Findings</th>
                      <th scope="col">Runway</th>
                    </tr>
                  </thead>
                  <tbody>
                    {/* By place, so that another filter writes over the rows that stand there. */}
                    {data.pages
                      .flatMap((page) => page.items)
                      .map((device, place) => (
                        // biome-ignore lint/suspicious/noArrayIndexKey: a row holds nothing of its own
                        <DeviceRow key={place} device={device} />
                      ))}
                  </tbody>
                </table>
              </section>
            )}
            <More of={found}>More devices</More>
          </>
        )}
      </Loaded>
      <ManyDevices sites={first?.sites ?? []} />
    </>
  );
}

/** Widths that are known beforehand, so that a further page need not be measured against all before it. */
function Columns({ stones }: { stones: number }) {
  return (
    <colgroup>
      <col />
      <col />
      <col />
      <col width={80} />
      <col />
      <col width={stones * 18 + 24} />
      <col width={120} />
    </colgroup>
  );
}

type Device = components["schemas"]["DeviceResponse"];

/** Drawn anew only for another device: a further page leaves the rows before it alone. */
const DeviceRow = memo(function DeviceRow({ device }: { device: Device }) {
  return (
    <tr className="hover:bg-slab-2">
      <td className="cell">
        <PageLink to={`/devices/${device.id}`} className="font-semibold whitespace-nowrap">
          {device.id}
        </PageLink>
        {device.critical && <span className="block text-sm text-ink-2">critical</span>}
      </td>
      <td className="cell">
        {device.site}
        <span className="block text-sm text-ink-2">{device.role}</span>
      </td>
      <td className="cell whitespace-nowrap">{device.model}</td>
      <td className="cell">{device.release}</td>
      <td className="cell">{device.state && <StateMark state={device.state} />}</td>
      <td className="cell">
        <Strip marks={device.marks} />
      </td>
      <td className="cell whitespace-nowrap">{day(device.runway)}</td>
    </tr>
  );
});

function Search({ words, setWords }: { words: string; setWords: (value: string) => void }) {
  const [typed, setTyped] = useState(words);
  // biome-ignore lint/correctness/useExhaustiveDependencies: waits for the typing to pause, nothing else
  useEffect(() => {
    const wait = setTimeout(() => typed !== words && setWords(typed), 250);
    return () => clearTimeout(wait);
  }, [typed]);
  return (
    <Labelled label="Search">
      <input
        className="field"
        type="search"
        placeholder="name, model, role"
        value={typed}
        onChange={(event) => setTyped(event.target.value)}
      />
    </Labelled>
  );
}
