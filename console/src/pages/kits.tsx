import { api } from "../api/api";
import type { components } from "../api/schema";
import { day, Empty, Go, Heading, Shown } from "../ui/parts";

type Kit = components["schemas"]["KitShape"];

export function KitsPage() {
  const found = api.useQuery("get", "/api/v1/kits");
  return (
    <>
      <Heading title="Kits">The bundles that carry one device through: settings, undo, verification, runbook.</Heading>
      <Shown of={found} what="the kits">
        {(data) =>
          data.items.length ? (
            <KitTable items={data.items} />
          ) : (
            <Empty>No kit has been made. A kit is made on a device's page, once its exceptions are approved.</Empty>
          )
        }
      </Shown>
    </>
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
            <th scope="col">Device</th>
            <th scope="col">Release</th>
            <th scope="col">Overrides</th>
            <th scope="col">Exceptions</th>
            <th scope="col">Made</th>
          </tr>
        </thead>
        <tbody>
          {items.map((kit) => (
            <tr key={kit.id} className="hover:bg-slab-2">
              <td className="cell">
                <Go to={`/kits/${kit.id}`} className="font-semibold whitespace-nowrap">
                  {kit.id}
                </Go>
              </td>
              <td className="cell">
                <Go to={`/devices/${kit.device}`}>{kit.device}</Go>
              </td>
              <td className="cell">
                {kit.release}, {kit.route}
              </td>
              <td className="cell">{kit.overrides.join(", ") || "none needed"}</td>
              <td className="cell">{kit.exceptions.join(", ") || "none needed"}</td>
              <td className="cell whitespace-nowrap">
                {day(kit.made_at)} by {kit.made_by}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
