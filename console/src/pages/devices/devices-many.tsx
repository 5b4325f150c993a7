// Many devices at once: their site, role, criticality or life, seen device by device before it is done.
import { useState } from "react";
import { api, client, LIVES, type Life, once, useSend } from "../../api/api";
import { allows, useHere } from "../../frame/here";
import { Button, Choice, count, ErrorMessage, Labelled, Scroll } from "../../ui/parts";

const DEEDS = {
  change: "Change site, role or criticality",
  "set-aside": "Set aside",
  retired: "Retire",
  "in-service": "Bring back",
} as const;
type Deed = keyof typeof DEEDS;
const isDeed = (name: string): name is Deed => name in DEEDS;

const EMPTY = {
  deed: "change" as Deed,
  selection: "",
  names: "",
  atSite: "",
  site: "",
  role: "",
  critical: "",
  reason: "",
  lookOn: "",
  wipedBy: "",
};

interface Done {
  device: string;
  words: string;
  exceptions: string;
}

const inWords = (value: string | boolean | undefined) =>
  typeof value === "boolean" ? (value ? "yes" : "no") : value || "none";

/** Asks for the change, or rehearses it; each device with what happens to it. */
async function send(form: typeof EMPTY, dry: boolean): Promise<{ items: Done[]; dry: boolean }> {
  const options = { params: { query: { dry_run: dry } }, headers: dry ? {} : once() };
  const devices = form.names.split(/[\s,;]+/).filter(Boolean);
  if (form.deed === "change") {
    const { data } = await client.POST("/api/v1/devices/changes", {
      body: {
        devices,
        selection: form.selection,
        at_site: form.atSite,
        site: form.site || null,
        role: form.role || null,
        critical: form.critical ? form.critical === "yes" : null,
        note: form.reason,
      },
      ...options,
    });
    const items = (data?.items ?? []).map((one) => ({
      device: one.device,
      words: Object.entries(one.was)
        .map(([key, was]) => `${key} was ${inWords(was)}, is ${inWords(one.now[key])}`)
        .join("; "),
      exceptions: one.stale.length ? `look again at ${one.stale.join(", ")}` : "",
    }));
    return { items, dry };
  }
  const { data } = await client.POST("/api/v1/lives", {
    body: {
      devices,
      selection: form.selection,
      site: form.atSite,
      life: form.deed,
      on: null,
      reason: form.reason,
      look_on: form.deed === "set-aside" ? form.lookOn || null : null,
      wiped_by: form.deed === "retired" ? form.wipedBy : "",
      replaced_by: "",
    },
    ...options,
  });
  const words = (was: Life, now: Life) => `was ${LIVES[was].toLowerCase()}, is ${LIVES[now].toLowerCase()}`;
  const items = (data?.items ?? []).map((one) => ({
    device: one.device,
    words: words(one.was, one.life),
    exceptions: [...one.ends.map((name) => `${name} ends`), ...one.leaves.map((name) => `leaves ${name}`)].join(", "),
  }));
  return { items, dry };
}

export function ManyDevices({ sites }: { sites: readonly string[] }) {
  const { me } = useHere();
  const deeds = Object.entries(DEEDS).filter(([name]) =>
    allows(me, name === "change" ? "change_devices" : "change_lives"),
  );
  const first = deeds[0]?.[0] ?? "";
  const saved = api.useQuery("get", "/api/v1/selections");
  const [form, setForm] = useState({ ...EMPTY, deed: isDeed(first) ? first : EMPTY.deed });
  const act = useSend((dry: boolean) => send(form, dry));
  const set = (key: keyof typeof EMPTY) => (value: string) => {
    act.reset();
    setForm({ ...form, [key]: value });
  };
  if (!first) return null;
  const { deed } = form;
  const rows = act.data?.items ?? [];
  const chosen = form.selection || form.names.trim() || form.atSite;
  return (
    <details className="slab mt-4">
      <summary className="cursor-pointer font-semibold">Many at once</summary>
      <form
        className="mt-3 grid gap-3 sm:grid-cols-2 lg:grid-cols-3"
        onSubmit={(event) => {
          event.preventDefault();
          act.mutate(true);
        }}
      >
        <Choice
          label="A saved selection"
          value={form.selection}
          nothing="none"
          set={set("selection")}
          of={(saved.data?.items ?? []).map((one) => [one.name, one.name])}
        />
        <Choice
          label="And all at a site"
          value={form.atSite}
          nothing="none"
          set={set("atSite")}
          of={sites.map((name) => [name, name])}
        />
        <Labelled label="And these devices" hint="Ids, parted by commas or spaces.">
          <input className="field" value={form.names} onChange={(event) => set("names")(event.target.value)} />
        </Labelled>
        <Choice label="What to do" value={deed} needed set={set("deed")} of={deeds} />
        {deed === "change" && (
          <>
            <Labelled label="New site" hint="Empty leaves it as it is.">
              <input
                className="field"
                value={form.site}
                maxLength={100}
                onChange={(event) => set("site")(event.target.value)}
              />
            </Labelled>
            <Labelled label="New role" hint="Empty leaves it as it is.">
              <input
                className="field"
                value={form.role}
                maxLength={100}
                onChange={(event) => set("role")(event.target.value)}
              />
            </Labelled>
            <Choice
              label="Critical"
              value={form.critical}
              nothing="as it is"
              set={set("critical")}
              of={[
                ["yes", "yes"],
                ["no", "no"],
              ]}
            />
          </>
        )}
        {deed === "set-aside" && (
          <Labelled label="Look again on">
            <input
              className="field"
              type="date"
              required
              value={form.lookOn}
              onChange={(event) => set("lookOn")(event.target.value)}
            />
          </Labelled>
        )}
        {deed === "retired" && (
          <Labelled label="Who erased the data" hint="Empty while nobody has.">
            <input className="field" value={form.wipedBy} onChange={(event) => set("wipedBy")(event.target.value)} />
          </Labelled>
        )}
        <Labelled label="Why">
          <input
            className="field"
            value={form.reason}
            minLength={5}
            required
            onChange={(event) => set("reason")(event.target.value)}
          />
        </Labelled>
        <div className="flex items-end gap-2 sm:col-span-2 lg:col-span-3">
          <Button type="submit" quiet disabled={act.isPending || !chosen}>
            See what happens
          </Button>
          <Button
            type="button"
            disabled={act.isPending || !act.data?.dry || rows.length === 0}
            onClick={() => act.mutate(false)}
          >
            {act.data?.dry && rows.length ? `Do it for ${count(rows.length, "device")}` : "Do it"}
          </Button>
        </div>
      </form>
      {act.error != null && (
        <div className="mt-3">
          <ErrorMessage error={act.error} />
        </div>
      )}
      {act.data && (
        <>
          <p role="status" className={`mt-3 ${act.data.dry ? "text-ink-2" : "font-semibold text-met"}`}>
            {count(rows.length, "device")} {act.data.dry ? "would change." : "changed."}
          </p>
          <Scroll label="What happens" className="mt-2 max-h-80 overflow-y-auto">
            <table className="w-full">
              <thead>
                <tr className="[&>th]:px-3 [&>th]:py-2">
                  <th scope="col">Device</th>
                  <th scope="col">What</th>
                  <th scope="col">Exceptions</th>
                </tr>
              </thead>
              <tbody>
                {rows.map((one) => (
                  <tr key={one.device}>
                    <td className="cell whitespace-nowrap">{one.device}</td>
                    <td className="cell">{one.words}</td>
                    <td className="cell">{one.exceptions}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Scroll>
        </>
      )}
    </details>
  );
}
