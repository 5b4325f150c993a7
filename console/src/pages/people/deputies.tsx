// Deputies: who decides in whose place, for which days.
import { useState } from "react";
import { api, client, once, useSend } from "../../api/api";
import { useHere } from "../../frame/here";
import { ConfirmButton } from "../../ui/confirm";
import { Button, Choice, day, ErrorMessage, Labelled, Loaded, Panel } from "../../ui/parts";

export function DeputiesSlab() {
  const { me } = useHere();
  const found = api.useQuery("get", "/api/v1/deputies");
  const people = api.useQuery("get", "/api/v1/people");
  const [deputy, setDeputy] = useState("");
  const [start, setStart] = useState(me.today);
  const [end, setEnd] = useState("");
  const [reason, setReason] = useState("");
  const name = useSend(
    async () => {
      const body = { person: "", deputy, start_on: start, end_on: end, reason };
      await client.POST("/api/v1/deputies", { body, headers: once() });
    },
    () => {
      setDeputy("");
      setReason("");
    },
  );
  const stop = useSend(async (id: string) => {
    await client.DELETE("/api/v1/deputies/{deputy}", { params: { path: { deputy: id } } });
  });
  if (me.in_place_of) return null;
  return (
    <Panel title="My deputy">
      <p className="mb-3 text-ink-2">
        For some days somebody decides in your place, in your role. What they decide says so for ever. Nobody approves
        what they or you have asked for.
      </p>
      <Loaded of={found} what="the deputies">
        {(data) => {
          const mine = data.items.filter((one) => !one.ended_at && one.end_on >= me.today && one.person === me.name);
          return (
            <ul className="mb-3">
              {mine.map((one) => (
                <li
                  key={one.id}
                  className="flex flex-wrap items-center justify-between gap-2 border-t border-edge py-2"
                >
                  <span>
                    <strong>{one.deputy}</strong>, {day(one.start_on)} through {day(one.end_on)}
                    {one.in_force && ", today"}: {one.reason}
                  </span>
                  <ConfirmButton
                    label="End it"
                    title={`End the days of ${one.deputy}?`}
                    disabled={stop.isPending}
                    confirm={() => stop.mutate(one.id)}
                  >
                    {one.deputy} decides nothing more in your place from now on. What they have decided stays.
                  </ConfirmButton>
                </li>
              ))}
            </ul>
          );
        }}
      </Loaded>
      <form
        className="grid gap-3 sm:grid-cols-2"
        onSubmit={(event) => {
          event.preventDefault();
          name.mutate();
        }}
      >
        <Choice
          label="Who decides in my place"
          value={deputy}
          nothing="choose"
          set={setDeputy}
          of={(people.data?.items ?? [])
            .filter((one) => one.active && one.name !== me.name)
            .map((one) => [one.name, `${one.display} (${one.role})`])}
        />
        <Labelled label="Why">
          <input
            className="field"
            value={reason}
            minLength={5}
            required
            onChange={(event) => setReason(event.target.value)}
          />
        </Labelled>
        <Labelled label="First day">
          <input
            className="field"
            type="date"
            value={start}
            required
            onChange={(event) => setStart(event.target.value)}
          />
        </Labelled>
        <Labelled label="Last day">
          <input className="field" type="date" value={end} required onChange={(event) => setEnd(event.target.value)} />
        </Labelled>
        <div className="sm:col-span-2">
          <Button type="submit" disabled={!deputy || name.isPending}>
            Name my deputy
          </Button>
        </div>
      </form>
      {(name.error ?? stop.error) != null && <ErrorMessage error={name.error ?? stop.error} />}
    </Panel>
  );
}
