// Disputes: what sources say of the same thing, side by side, and the operator's word that settles it.
import { useState } from "react";
import { api, client, type Dispute, once, useSend } from "../../api/api";
import { allows, useHere } from "../../frame/here";
import {
  Button,
  count,
  day,
  Empty,
  ErrorMessage,
  Heading,
  Labelled,
  Loaded,
  PageLink,
  Panel,
  Scroll,
} from "../../ui/parts";

export function DisputesPage() {
  const { platform, release } = useHere();
  const query = { platform: platform.id, release };
  const found = api.useQuery("get", "/api/v1/disputes", { params: { query } });
  return (
    <>
      <Heading title="Disputes">
        Where sources disagree and it matters for {release}. What changes no outcome is not asked about.
      </Heading>
      <Loaded of={found} what="the disputes">
        {(data) =>
          data.items.length === 0 ? (
            <Empty>Nothing is disputed.</Empty>
          ) : (
            <>
              <p role="status" className="mb-2 text-ink-2">
                {count(data.items.length, "dispute")}
              </p>
              <div className="grid gap-4">
                {data.items.map((one) => (
                  <DisputeSlab key={`${one.device}${one.subject}`} dispute={one} />
                ))}
              </div>
            </>
          )
        }
      </Loaded>
    </>
  );
}

export function DisputeSlab({ dispute, bare = false }: { dispute: Dispute; bare?: boolean }) {
  const { me } = useHere();
  const [chosen, choose] = useState(-1);
  const [reason, setReason] = useState("");
  const side = dispute.sides[chosen];
  const send = useSend(async () => {
    if (!side) return;
    const value = dispute.kind === "fact" ? side.value : side.outcome;
    const body = { device: dispute.device, kind: dispute.kind, subject: dispute.subject, value, reason };
    await client.POST("/api/v1/settlements", { body, headers: once() });
  });
  const mayJudge = allows(me, "settle_dispute");
  const group = `${dispute.device} ${dispute.subject}`;
  const table = (
    <>
      <p className="mb-2 text-ink-2">
        {dispute.kind === "fact" ? (
          <>
            Sources disagree about <code className="text-sm">{dispute.subject}</code>.
          </>
        ) : (
          "A source's verdict speaks against the facts."
        )}{" "}
        It decides {dispute.requirements.join(", ")}.
      </p>
      <Scroll label={`${dispute.device}: what sources say of ${dispute.title}`}>
        <table className="w-full">
          <thead>
            <tr className="[&>th]:px-3">
              {mayJudge && <th scope="col">Believe</th>}
              <th scope="col">Source</th>
              <th scope="col">Says</th>
              <th scope="col">On</th>
              <th scope="col">Which gives</th>
            </tr>
          </thead>
          <tbody>
            {dispute.sides.map((one, at) => (
              <tr key={`${one.source}${one.value}`}>
                {mayJudge && (
                  <td className="cell">
                    <input
                      type="radio"
                      name={group}
                      className="size-4"
                      aria-label={`Believe ${one.source}: ${one.value}`}
                      checked={chosen === at}
                      onChange={() => choose(at)}
                    />
                  </td>
                )}
                <td className="cell whitespace-nowrap">
                  {one.source} <span className="text-sm text-ink-2">trust {one.trust}</span>
                </td>
                <td className="cell font-semibold">{one.value}</td>
                <td className="cell whitespace-nowrap">{day(one.taken_at)}</td>
                <td className="cell">
                  {one.outcome}
                  {one.believed && <span className="block text-sm text-ink-2">believed until settled</span>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
      {mayJudge && side && (
        <form
          className="mt-3 flex flex-wrap items-end gap-3"
          onSubmit={(event) => {
            event.preventDefault();
            send.mutate();
          }}
        >
          <div className="min-w-56 flex-1">
            <Labelled label={`Why is “${side.value}” right?`}>
              <input className="field" value={reason} onChange={(event) => setReason(event.target.value)} required />
            </Labelled>
          </div>
          <Button type="submit" disabled={send.isPending}>
            {send.isPending ? "Settling…" : "Settle it"}
          </Button>
        </form>
      )}
      {send.error && <ErrorMessage error={send.error} />}
    </>
  );
  if (bare) return <div className="mt-3 border-t border-edge pt-3">{table}</div>;
  return (
    <Panel
      title={`${dispute.device}: ${dispute.title}`}
      aside={<PageLink to={`/devices/${dispute.device}`}>{dispute.name || dispute.device}</PageLink>}
    >
      {table}
    </Panel>
  );
}
