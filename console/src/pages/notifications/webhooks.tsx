// Addresses of other programs that get a message when something happens, and what came of each.
import { type FormEvent, useState } from "react";
import { api, client, once, useSend } from "../../api/api";
import { allows, useHere } from "../../frame/here";
import { ConfirmButton } from "../../ui/confirm";
import { Button, day, Empty, ErrorMessage, Heading, Labelled, Loaded, Panel, Scroll, useParam } from "../../ui/parts";

export function WebhooksPage() {
  const { me } = useHere();
  const [open] = useParam("open");
  return (
    <>
      <Heading title="Webhooks">
        Other programs get a message when something happens: CloudEvents over HTTP, signed.
      </Heading>
      {allows(me, "add_webhook") ? (
        <div className="grid gap-4">
          <Add />
          <List />
          {open && <Log key={open} name={open} />}
        </div>
      ) : (
        <Empty>Administrators look after them.</Empty>
      )}
    </>
  );
}

function Add() {
  const [url, setUrl] = useState("");
  const [kinds, setKinds] = useState("");
  const add = useSend(async () => {
    const body = { url, kinds: kinds.split(/[\s,]+/).filter(Boolean) };
    return (await client.POST("/api/v1/webhooks", { body, headers: once() })).data;
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    add.mutate();
  };
  return (
    <Panel title="Add a webhook">
      <form onSubmit={submit} className="grid items-start gap-3 sm:grid-cols-[1fr_1fr_auto]">
        <Labelled label="Address">
          <input
            className="field"
            type="url"
            required
            placeholder="https://"
            value={url}
            onChange={(event) => setUrl(event.target.value)}
          />
        </Labelled>
        <Labelled label="Events" hint="Such as exception, kit, attempt; all if left empty.">
          <input className="field" value={kinds} onChange={(event) => setKinds(event.target.value)} />
        </Labelled>
        <Button type="submit" className="sm:mt-7" disabled={add.isPending}>
          Add
        </Button>
      </form>
      {add.error && <ErrorMessage error={add.error} />}
      {add.data?.secret && (
        <p role="status" className="mt-2">
          {add.data.id} signs with this secret, shown this once:{" "}
          <code className="font-semibold break-all">{add.data.secret}</code>
        </p>
      )}
    </Panel>
  );
}

function List() {
  const [, setOpen] = useParam("open");
  const found = api.useQuery("get", "/api/v1/webhooks");
  const remove = useSend((webhook: string) =>
    client.DELETE("/api/v1/webhooks/{webhook}", { params: { path: { webhook } } }),
  );
  const tried = useSend(
    (webhook: string) => client.POST("/api/v1/webhooks/{webhook}/trial", { params: { path: { webhook } } }),
    () => undefined,
  );
  return (
    <Panel title="Addresses">
      <Loaded of={found} what="the webhooks">
        {(data) =>
          data.items.length === 0 ? (
            <Empty>No address gets messages yet.</Empty>
          ) : (
            <ul>
              {data.items.map((one) => (
                <li
                  key={one.id}
                  className="flex flex-wrap items-center justify-between gap-2 border-t border-edge py-2 first:border-0"
                >
                  <span className="min-w-0 break-all">
                    <strong>{one.id}</strong> {one.url}
                    <span className="block text-sm text-ink-2">
                      {one.active ? one.kinds.join(", ") || "all events" : "removed"} · {one.by}, {day(one.at)}
                    </span>
                  </span>
                  <span className="flex gap-2">
                    <Button quiet onClick={() => setOpen(one.id)}>
                      Log<span className="sr-only"> of {one.id}</span>
                    </Button>
                    {one.active && (
                      <>
                        <Button quiet disabled={tried.isPending} onClick={() => tried.mutate(one.id)}>
                          Try<span className="sr-only"> {one.id}</span>
                        </Button>
                        <ConfirmButton
                          label="Remove"
                          hidden={one.id}
                          title={`Remove ${one.id}?`}
                          disabled={remove.isPending}
                          confirm={() => remove.mutate(one.id)}
                        >
                          No further event is sent to <span className="break-all">{one.url}</span>. Its secret is lost;
                          its log stays.
                        </ConfirmButton>
                      </>
                    )}
                  </span>
                </li>
              ))}
            </ul>
          )
        }
      </Loaded>
      {(remove.error ?? tried.error) != null && <ErrorMessage error={remove.error ?? tried.error} />}
    </Panel>
  );
}

function Log({ name }: { name: string }) {
  const path = { params: { path: { webhook: name } } };
  const found = api.useQuery("get", "/api/v1/webhooks/{webhook}/deliveries", path, { refetchInterval: 5000 });
  return (
    <Panel title={`What was sent to ${name}`}>
      <Loaded of={found} what="the log">
        {(data) =>
          data.items.length === 0 ? (
            <Empty>Nothing yet.</Empty>
          ) : (
            <Scroll label={`Deliveries to ${name}`}>
              <table className="w-full">
                <thead>
                  <tr className="[&>th]:px-3">
                    <th scope="col">Event</th>
                    <th scope="col">Kind</th>
                    <th scope="col">State</th>
                    <th scope="col">Tries</th>
                    <th scope="col">Last answer</th>
                  </tr>
                </thead>
                <tbody>
                  {data.items.map((one) => (
                    <tr key={one.id}>
                      <td className="cell">{one.event}</td>
                      <td className="cell">{one.kind}</td>
                      <td className="cell">{one.state}</td>
                      <td className="cell">{one.tries}</td>
                      <td className="cell">{one.answer || "–"}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </Scroll>
          )
        }
      </Loaded>
    </Panel>
  );
}
