// Tasks: what changed sheets leave to do, each with its devices and owner, worked off one by one.
import { useState } from "react";
import { api, client, type SheetTask, useSend } from "../../api/api";
import { allows, useHere } from "../../frame/here";
import {
  Button,
  Choice,
  count,
  day,
  Empty,
  ErrorMessage,
  Heading,
  Labelled,
  Loaded,
  PageLink,
  Scroll,
  useParam,
} from "../../ui/parts";

const STATES = [
  ["open", "open"],
  ["done", "done"],
  ["dropped", "dropped"],
] as const;

export function TasksPage() {
  const [state, setState] = useParam("state", "open");
  const query = { state: state === "all" ? "" : state, platform: "" };
  const found = api.useQuery("get", "/api/v1/tasks", { params: { query } });
  return (
    <>
      <Heading title="Tasks">
        What changed sheets leave to do: for each thing touched its devices and its owner.
      </Heading>
      <div className="mb-3 max-w-xs">
        <Choice label="State" value={state} needed set={setState} of={[...STATES, ["all", "all"]]} />
      </div>
      <Loaded of={found} what="the tasks">
        {(data) =>
          data.items.length === 0 ? (
            <Empty>No task is {state === "all" ? "there" : state}.</Empty>
          ) : (
            <Scroll label="Tasks" className="slab p-0 sm:p-0">
              <table className="w-full min-w-[44rem]">
                <thead>
                  <tr className="[&>th]:px-3 [&>th]:py-2">
                    <th scope="col">Task</th>
                    <th scope="col">To do</th>
                    <th scope="col">Owner</th>
                    <th scope="col">State</th>
                  </tr>
                </thead>
                <tbody>
                  {data.items.map((one) => (
                    <Row key={one.id} task={one} />
                  ))}
                </tbody>
              </table>
            </Scroll>
          )
        }
      </Loaded>
    </>
  );
}

const PLACES = { exception: "/exceptions", kit: "/kits" } as const;

function Row({ task }: { task: SheetTask }) {
  const { me } = useHere();
  const shown = task.devices.slice(0, 6);
  return (
    <tr>
      <th scope="row" className="cell font-normal whitespace-nowrap">
        {task.id}
        <span className="block text-sm text-ink-2">
          {task.platform} {task.revision}
        </span>
      </th>
      <td className="cell">
        {task.words}
        {task.object_kind !== "platform" && (
          <>
            {" "}
            <PageLink to={`${PLACES[task.object_kind]}/${task.object}`}>{task.object}</PageLink>
          </>
        )}
        <span className="block text-sm text-ink-2">
          {shown.map((device, at) => (
            <span key={device}>
              {at > 0 && ", "}
              <PageLink to={`/devices/${device}`}>{device}</PageLink>
            </span>
          ))}
          {task.devices.length > shown.length && ` and ${count(task.devices.length - shown.length, "more device")}`}
        </span>
      </td>
      <td className="cell">{task.owner}</td>
      <td className="cell">
        {task.state === "open" ? (
          allows(me, "change_task") ? (
            <Settle task={task} />
          ) : (
            "open"
          )
        ) : (
          <>
            {task.state} by {task.by}, {day(task.at)}
            {task.note && <span className="block text-sm text-ink-2">{task.note}</span>}
          </>
        )}
      </td>
    </tr>
  );
}

function Settle({ task }: { task: SheetTask }) {
  const [note, setNote] = useState("");
  const send = useSend(async (state: "done" | "dropped") => {
    await client.PATCH("/api/v1/tasks/{task}", {
      params: { path: { task: task.id } },
      body: { state, owner: "", note },
    });
  });
  return (
    <div className="grid gap-2">
      <Labelled label="Note">
        <input className="field" value={note} maxLength={1000} onChange={(event) => setNote(event.target.value)} />
      </Labelled>
      <div className="flex gap-2">
        <Button disabled={send.isPending} onClick={() => send.mutate("done")}>
          Done
        </Button>
        <Button quiet disabled={send.isPending || note.trim().length < 5} onClick={() => send.mutate("dropped")}>
          Drop it
        </Button>
      </div>
      {send.error && <ErrorMessage error={send.error} />}
    </div>
  );
}
