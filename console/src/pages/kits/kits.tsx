import { useState } from "react";
import { api, client, useSend } from "../../api/api";
import type { components } from "../../api/schema";
import { allows, useHere } from "../../frame/here";
import { Button, count, day, Empty, ErrorMessage, Heading, Labelled, Loaded, PageLink, Panel } from "../../ui/parts";
import { MakeEach } from "./make-each";

type Kit = components["schemas"]["KitResponse"];

export function KitsPage() {
  const found = api.useQuery("get", "/api/v1/kits");
  return (
    <>
      <Heading title="Kits">The bundles that carry devices through: settings, undo, verification, runbook.</Heading>
      <Loaded of={found} what="the kits">
        {(data) =>
          data.items.length ? (
            <KitTable items={data.items} />
          ) : (
            <Empty>No kit has been made. A kit is made on a device's page, once its exceptions are approved.</Empty>
          )
        }
      </Loaded>
      {!found.isPending && (
        <div className="mt-4 space-y-4">
          <MakeEach />
          <DaysWork />
          <Rates />
        </div>
      )}
    </>
  );
}

/** How often attempts completed with each override, with the interval that so few allow. */
function Rates() {
  const { platform } = useHere();
  const query = { by: "override" as const, platform: platform.id };
  const found = api.useQuery("get", "/api/v1/attempts/rates", { params: { query } });
  const share = (part: number) => `${Math.round(100 * part)} %`;
  return (
    <Panel title="How often it works">
      <Loaded of={found} what="how often attempts completed">
        {({ items }) =>
          items.length === 0 ? (
            <Empty>No attempt with an override has been recorded.</Empty>
          ) : (
            <ul>
              {items.map((one) => (
                <li key={one.key}>
                  <strong>{one.key}</strong>: {one.done} of {one.tried} attempts completed{" "}
                  <span className="text-ink-2">
                    (likely between {share(one.low)} and {share(one.high)})
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

const COLUMNS = "device,kit,outcome,refused_by,started_at,ended_at,media,tool_version,seen";

/** A day's attempts at once: all of them, or none. */
function DaysWork() {
  const { me } = useHere();
  const [text, setText] = useState(`${COLUMNS}\n`);
  const send = useSend(
    async () => {
      const params = { path: { kind: "attempts" } };
      return (await client.POST("/api/v1/records/{kind}", { params, body: { form: "csv", text, mapping: "" } })).data;
    },
    () => setText(`${COLUMNS}\n`),
  );
  if (!allows(me, "make_kit")) return null;
  return (
    <Panel title="A day's attempts">
      <Labelled label="One a line, in the order of the first line" hint="All are recorded, or none.">
        <textarea
          className="field font-mono text-sm"
          rows={4}
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
      </Labelled>
      <Button className="mt-3" disabled={send.isPending} onClick={() => send.mutate()}>
        {send.isPending ? "Recording…" : "Record them"}
      </Button>
      {send.data && (
        <span role="status" className="ml-3 font-semibold text-met">
          {count(send.data.recorded, "attempt")} recorded.
        </span>
      )}
      {send.error && <ErrorMessage error={send.error} />}
    </Panel>
  );
}

export function KitTable({ items }: { items: Kit[] }) {
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable
    <section className="slab relative overflow-x-auto p-0 sm:p-0" tabIndex={0} aria-label="Kits">
      <table className="w-full">
        <thead>
          <tr className="[&>th]:px-3 [&>th]:py-2">
            <th scope="col">Kit</th>
            <th scope="col">Devices</th>
            <th scope="col">Release</th>
            <th scope="col">Overrides</th>
            <th scope="col">Exceptions</th>
            <th scope="col">Made</th>
            <th scope="col">Today</th>
          </tr>
        </thead>
        <tbody>
          {items.map((kit) => (
            <tr key={kit.id} className="hover:bg-slab-2">
              <td className="cell">
                <PageLink to={`/kits/${kit.id}`} className="font-semibold whitespace-nowrap">
                  {kit.id}
                </PageLink>
              </td>
              <td className="cell">
                <PageLink to={`/devices/${kit.device}`}>{kit.device}</PageLink>
                {kit.devices.length > 1 && ` and ${kit.devices.length - 1} more`}
              </td>
              <td className="cell">
                {kit.release}, {kit.route}
              </td>
              <td className="cell">{kit.overrides.join(", ") || "none needed"}</td>
              <td className="cell">{kit.exceptions.join(", ") || "none needed"}</td>
              <td className="cell whitespace-nowrap">
                {day(kit.made_at)} by {kit.made_by}
              </td>
              <td className="cell">
                {kit.reasons.length === 0 ? (
                  <span className="text-met">stands{kit.expires_on && ` through ${day(kit.expires_on)}`}</span>
                ) : (
                  <span className="text-floor">no longer handed out</span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
