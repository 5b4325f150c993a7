// Failures that assessors report in words: the requirement of each, and those that match none yet.
import { useState } from "react";
import { api, client, type FailureMessage, useSend } from "../../api/api";
import { allows, useHere } from "../../frame/here";
import { Button, Choice, count, ErrorMessage, Labelled, Loaded, PageLink, Panel } from "../../ui/parts";

export function FailureMessages() {
  const { platform } = useHere();
  const query = { platform: platform.id };
  const found = api.useQuery("get", "/api/v1/failure-messages", { params: { query } });
  return (
    <div className="mt-4">
      <Loaded of={found} what="failure messages">
        {(data) =>
          data.items.length === 0 ? null : (
            <Panel title="Failure messages">
              <ul className="space-y-4">
                {data.items.map((message) => (
                  <OneText key={message.text} message={message} />
                ))}
              </ul>
            </Panel>
          )
        }
      </Loaded>
    </div>
  );
}

function OneText({ message }: { message: FailureMessage }) {
  const { me } = useHere();
  return (
    <li className="border-t border-edge pt-3 first:border-0 first:pt-0">
      <p>
        “{message.text}” <span className="text-ink-2">from {message.sources.join(", ")} on</span>{" "}
        {count(message.devices, "device")}, such as{" "}
        <PageLink to={`/devices/${message.example}?tab=readings`}>{message.example}</PageLink>
      </p>
      {message.requirement ? (
        <p className="text-ink-2">
          Speaks of <strong>{message.requirement}</strong>
          {message.foreseen ? ", as the sheet foresees." : "."}
        </p>
      ) : (
        <p className="font-semibold text-open">It matches no requirement yet.</p>
      )}
      {!message.requirement && allows(me, "match_failure_message") && <Place message={message} />}
    </li>
  );
}

function Place({ message }: { message: FailureMessage }) {
  const { platform, release } = useHere();
  const table = api.useQuery("get", "/api/v1/sorting", { params: { query: { platform: platform.id, release } } });
  const [requirement, setRequirement] = useState("");
  const [id, setId] = useState("");
  const [title, setTitle] = useState("");
  const match = useSend(async () => {
    await client.POST("/api/v1/failure-messages/match", {
      body: { platform: platform.id, text: message.text, requirement },
    });
  });
  const make = useSend(async () => {
    const body = { platform: platform.id, text: message.text, id, title, since: release };
    await client.POST("/api/v1/failure-messages/requirement", { body });
  });
  const known = (table.data?.items ?? []).map((row) => [row.requirement, row.title] as const);
  return (
    <div className="mt-2 grid gap-4 md:grid-cols-2">
      <form
        className="flex flex-wrap items-end gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          match.mutate();
        }}
      >
        <Choice label="Requirement" value={requirement} set={setRequirement} of={known} nothing="choose" />
        <Button type="submit" disabled={!requirement || match.isPending}>
          Match
        </Button>
      </form>
      <form
        className="flex flex-wrap items-end gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          make.mutate();
        }}
      >
        <Labelled label="Or a new requirement, with the id">
          <input className="field" required value={id} onChange={(event) => setId(event.target.value)} />
        </Labelled>
        <Labelled label="and the title">
          <input className="field" required value={title} onChange={(event) => setTitle(event.target.value)} />
        </Labelled>
        <Button quiet type="submit" disabled={make.isPending}>
          Make it, unsorted
        </Button>
      </form>
      {(match.error ?? make.error) != null && <ErrorMessage error={match.error ?? make.error} />}
    </div>
  );
}
