// The life of a device: what it is when not in service, and how to change that.
import { useState } from "react";
import { client, LIVES, type Life, useSend } from "../../api/api";
import { allows, useHere } from "../../frame/here";
import { Button, Choice, day, ErrorMessage, Labelled, PageLink } from "../../ui/parts";
import type { Detail } from "./device-props";

/** What a device that is not in service is, since when and why. */
export function LifeBanner({ data }: { data: Detail }) {
  const { life } = data;
  if (!life || life.life === "in-service") return null;
  return (
    <section aria-label="Not in service" className="slab mb-4 border-l-4 border-l-open">
      <p>
        <strong>{LIVES[life.life]}</strong> since {day(life.on)}
        {life.replaced_by && (
          <>
            {" "}
            by <PageLink to={`/devices/${life.replaced_by}`}>{life.replaced_by}</PageLink>
          </>
        )}
        {life.look_on && <>, to be looked at again on {day(life.look_on)}</>}. {life.reason}
      </p>
      <p className="text-ink-2">
        It counts nowhere and has nothing due. {life.wiped_by && `${life.wiped_by} erased its data. `}Recorded by{" "}
        {life.by}.
      </p>
    </section>
  );
}

const NEXT: Record<Life, Life[]> = {
  "in-service": ["set-aside", "retired", "replaced"],
  "set-aside": ["in-service", "set-aside", "retired", "replaced"],
  retired: ["in-service", "retired", "replaced"],
  replaced: ["in-service", "replaced"],
};
const VERBS: Record<Life, string> = {
  "in-service": "Bring it back",
  "set-aside": "Set it aside",
  retired: "Retire it",
  replaced: "Replace it",
};

/** Takes a device out of service or back, or adds who erased its data. */
export function ChangeLife({ data }: { data: Detail }) {
  const { me } = useHere();
  const { id, site } = data.device;
  const was = data.life?.life ?? "in-service";
  const [life, setLife] = useState<Life | "">("");
  const [reason, setReason] = useState("");
  const [lookOn, setLookOn] = useState("");
  const [wipedBy, setWipedBy] = useState("");
  const [by, setBy] = useState("");
  const send = useSend(
    async () => {
      if (!life) return;
      const more = {
        on: null,
        look_on: life === "set-aside" ? lookOn || null : null,
        wiped_by: life === "retired" || life === "replaced" ? wipedBy : "",
        replaced_by: life === "replaced" && was !== "replaced" ? by : "",
      };
      await client.POST("/api/v1/lives", { body: { devices: [id], selection: "", site: "", life, reason, ...more } });
    },
    () => {
      setLife("");
      setReason("");
    },
  );
  if (!allows(me, "change_lives", site)) return null;
  const words = (one: Life) => (one !== was ? VERBS[one] : one === "set-aside" ? "Another day" : "Data erased");
  return (
    <details className="slab mb-4">
      <summary className="cursor-pointer font-semibold">
        {was === "in-service" ? "Set aside, retire or replace it" : "Bring it back, or change what it is"}
      </summary>
      <form
        className="mt-3 grid gap-3 sm:grid-cols-2"
        onSubmit={(event) => {
          event.preventDefault();
          send.mutate();
        }}
      >
        <Choice
          label="What happens"
          value={life}
          nothing="choose"
          set={(value) => setLife(isLife(value) ? value : "")}
          of={NEXT[was].map((one) => [one, words(one)])}
        />
        <Labelled label="Why" hint="It stands in the ledger.">
          <input
            className="field"
            value={reason}
            minLength={5}
            maxLength={1000}
            required
            onChange={(event) => setReason(event.target.value)}
          />
        </Labelled>
        {life === "set-aside" && (
          <Labelled label="Look again on">
            <input
              className="field"
              type="date"
              value={lookOn}
              required
              onChange={(event) => setLookOn(event.target.value)}
            />
          </Labelled>
        )}
        {life === "replaced" && was !== "replaced" && (
          <Labelled label="By which device" hint="Its id; it must be in service.">
            <input className="field" value={by} required onChange={(event) => setBy(event.target.value)} />
          </Labelled>
        )}
        {(life === "retired" || life === "replaced") && (
          <Labelled label="Who erased its data" hint="Leave it empty while nobody has: it stays due.">
            <input
              className="field"
              value={wipedBy}
              maxLength={100}
              onChange={(event) => setWipedBy(event.target.value)}
            />
          </Labelled>
        )}
        {(life === "retired" || life === "replaced") && was !== life && (
          <p className="text-ink-2 sm:col-span-2">Its exceptions end for it. Those for other devices go on.</p>
        )}
        <div className="sm:col-span-2">
          <Button type="submit" quiet disabled={send.isPending || !life}>
            {life ? words(life) : "Change it"}
          </Button>
        </div>
        {send.error && (
          <div className="sm:col-span-2">
            <ErrorMessage error={send.error} />
          </div>
        )}
      </form>
    </details>
  );
}

const isLife = (name: string): name is Life => name in VERBS;
