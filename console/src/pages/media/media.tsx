// Set-up media: what is on each, what is wrong with it, and which of them a batch needs.
import { api } from "../../api/api";
import type { components } from "../../api/schema";
import { useHere } from "../../frame/here";
import { Chooser, useChosen } from "../../ui/chooser";
import { count, day, Empty, Heading, Loaded, PageLink, Panel, Scroll } from "../../ui/parts";

type Media = components["schemas"]["MediaResponse"];
type Plan = components["schemas"]["MediaPlanResponse"];

export function MediaPage() {
  const { platform, release } = useHere();
  const found = api.useQuery("get", "/api/v1/media", { params: { query: { platform: platform.id } } });
  return (
    <>
      <Heading title="Media">What set-up is started from, and which of it the devices need for {release}.</Heading>
      <Loaded of={found} what="the media">
        {(data) =>
          data.items.length ? (
            <MediaTable items={data.items} />
          ) : (
            <Empty>
              No media is on record. <code>doorstone media add FILE</code> records one and computes its SHA-256.
            </Empty>
          )
        }
      </Loaded>
      <h2 className="mt-6 mb-3 text-xl">Plan for a batch</h2>
      <Chooser />
      <PlanOf />
    </>
  );
}

function MediaTable({ items }: { items: Media[] }) {
  return (
    <Scroll label="Media on record" className="slab p-0 sm:p-0">
      <table className="w-full">
        <thead>
          <tr className="[&>th]:px-3 [&>th]:py-2">
            <th scope="col">Media</th>
            <th scope="col">Release</th>
            <th scope="col">Editions</th>
            <th scope="col">Language</th>
            <th scope="col">For</th>
            <th scope="col">Size</th>
            <th scope="col">Link ends</th>
            <th scope="col">Today</th>
          </tr>
        </thead>
        <tbody>
          {items.map((one) => (
            <tr key={one.id}>
              <th scope="row" className="cell text-base font-semibold whitespace-nowrap text-ink">
                {one.id}
              </th>
              <td className="cell">{one.release}</td>
              <td className="cell">{one.editions.join(", ")}</td>
              <td className="cell">{one.language}</td>
              <td className="cell">{one.arch}</td>
              <td className="cell whitespace-nowrap">{(one.size / 1e9).toFixed(1)} GB</td>
              <td className="cell whitespace-nowrap">{day(one.link_ends)}</td>
              <td className="cell">
                {one.defects.length ? (
                  <ul className="text-floor">
                    {one.defects.map((defect) => (
                      <li key={defect}>{defect}</li>
                    ))}
                  </ul>
                ) : (
                  <span className="text-met">sound</span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}

function PlanOf() {
  const { platform, release } = useHere();
  const { where } = useChosen();
  const { selection, ...conditions } = where;
  const whole = { ...conditions, requirement: "", mark: "", words: "" };
  const body = { platform: platform.id, release, selection, where: whole, devices: [], sticks_per_site: 1 };
  const found = api.useQuery("post", "/api/v1/media/plan", { body });
  return (
    <div className="mt-4">
      <Loaded of={found} what="the plan">
        {(data) => <PlanShown plan={data} />}
      </Loaded>
    </div>
  );
}

function PlanShown({ plan }: { plan: Plan }) {
  const served = plan.uses.reduce((sum, use) => sum + use.devices.length, 0);
  const left = plan.mismatches.reduce((sum, one) => sum + one.devices.length, 0);
  return (
    <div className="space-y-4">
      <p role="status">
        <strong>{count(plan.uses.length, "media").replace(/medias$/, "media")}</strong> serve {count(served, "device")}
        {left > 0 && <span className="text-floor">; {count(left, "device")} have none that fits</span>}.
      </p>
      {plan.mismatches.length > 0 && (
        <Panel title="Before anybody travels">
          <ul className="space-y-2">
            {plan.mismatches.map((one) => (
              <li key={one.why}>
                <strong className="text-floor">{one.why}</strong> <Devices names={one.devices} />
                <p className="text-ink-2">{one.hint}</p>
              </li>
            ))}
          </ul>
        </Panel>
      )}
      {plan.uses.map((use) => (
        <Panel key={use.media} title={`${use.media}: ${use.what}`}>
          {use.defects.length > 0 && <p className="mb-2 text-floor">{use.defects.join("; ")}</p>}
          <ul className="mb-2 flex flex-wrap gap-x-6">
            {Object.entries(use.sticks).map(([site, sticks]) => (
              <li key={site}>
                {site}: <strong>{sticks}</strong> × {use.stick_gb} GB
              </li>
            ))}
          </ul>
          <Devices names={use.devices} />
        </Panel>
      ))}
    </div>
  );
}

function Devices({ names }: { names: string[] }) {
  const shown = names.slice(0, 12);
  return (
    <span className="text-ink-2">
      {count(names.length, "device")}:{" "}
      {shown.map((name, at) => (
        <span key={name}>
          {at > 0 && ", "}
          <PageLink to={`/devices/${name}?tab=kit`}>{name}</PageLink>
        </span>
      ))}
      {names.length > shown.length && ` and ${names.length - shown.length} more`}
    </span>
  );
}
