// What is looked after while an exception stands: conditions, evidence, what is said, who answers, reviews.
import { type FormEvent, useState } from "react";
import { api, client, type Exception, useKey, useSend } from "../../api/api";
import { Button, CheckboxField, day, Empty, ErrorMessage, Labelled, PageLink, Panel } from "../../ui/parts";

const WORD_COLOURS: Record<string, string> = {
  kept: "text-met",
  due: "text-check",
  broken: "text-floor",
  overdue: "text-floor",
  unread: "text-open",
};

export function Conditions({ data }: { data: Exception }) {
  const key = useKey();
  const attest = useSend(
    (condition: number) =>
      client.POST("/api/v1/exceptions/{exception}/attestations", {
        params: { path: { exception: data.id } },
        body: { condition, note: "" },
        headers: key.headers(String(condition)),
      }),
    key.renew,
  );
  return (
    <Panel title="Conditions to keep">
      {data.conditions.length === 0 && <Empty>It was granted on no condition.</Empty>}
      <ul>
        {data.conditions.map((one) => (
          <li
            key={one.number}
            className="flex flex-wrap items-baseline justify-between gap-x-4 gap-y-1 border-t border-edge py-2 first:border-0"
          >
            <span className="min-w-0">
              {one.kind === "facts" ? <code className="text-sm">{one.text}</code> : one.text}
              <span className="block text-sm text-ink-2">
                {one.kind === "facts" ? "checked by the readings" : one.measured || "attested by somebody"}
                {one.due_on && ` · to be attested by ${day(one.due_on)}`}
                {one.every_days && `, then every ${one.every_days} days`}
              </span>
              {Object.entries(one.devices).map(([device, measured]) => (
                <span key={device} className="block text-sm text-floor">
                  <PageLink to={`/devices/${device}`}>{device}</PageLink>: {measured}
                </span>
              ))}
            </span>
            <span className="flex items-center gap-3">
              <strong className={WORD_COLOURS[one.word] ?? ""}>{one.word}</strong>
              {one.kind === "attested" && data.actions.includes("attest") && (
                <Button quiet disabled={attest.isPending} onClick={() => attest.mutate(one.number)}>
                  It is kept<span className="sr-only">: {one.text}</span>
                </Button>
              )}
            </span>
          </li>
        ))}
      </ul>
      {attest.error && <ErrorMessage error={attest.error} />}
      {data.actions.includes("review") && <Care data={data} />}
    </Panel>
  );
}

/** Another owner, a review, a renewal. */
function Care({ data }: { data: Exception }) {
  const people = api.useQuery("get", "/api/v1/people");
  const [owner, setOwner] = useState("");
  const [note, setNote] = useState("");
  const [next, setNext] = useState("");
  const params = { path: { exception: data.id }, header: { "If-Match": `"v${data.version}"` } };
  const transfer = useSend(() =>
    client.PUT("/api/v1/exceptions/{exception}/owner", { params, body: { owner, note: "" } }),
  );
  const review = useSend(() =>
    client.POST("/api/v1/exceptions/{exception}/reviews", { params, body: { next_on: next || null, note } }),
  );
  const asks = data.actions.includes("renew");
  return (
    <details className="mt-3 border-t border-edge pt-3">
      <summary className="cursor-pointer font-semibold">
        Review it, renew it, or make somebody else answer for it
      </summary>
      <form
        className="mt-3 grid items-end gap-3 sm:grid-cols-[1fr_11rem_auto]"
        onSubmit={(event) => {
          event.preventDefault();
          review.mutate();
        }}
      >
        <Labelled label="What the review has shown">
          <input className="field" required value={note} onChange={(event) => setNote(event.target.value)} />
        </Labelled>
        <Labelled label="Next review">
          <input className="field" type="date" value={next} onChange={(event) => setNext(event.target.value)} />
        </Labelled>
        <Button type="submit" quiet disabled={review.isPending}>
          It was reviewed
        </Button>
      </form>
      {review.error && <ErrorMessage error={review.error} />}
      <form
        className="mt-3 grid items-end gap-3 sm:grid-cols-[1fr_auto]"
        onSubmit={(event) => {
          event.preventDefault();
          transfer.mutate();
        }}
      >
        <Labelled label="Who is to answer for it">
          <select className="field" required value={owner} onChange={(event) => setOwner(event.target.value)}>
            <option value="">choose</option>
            {people.data?.items
              .filter((person) => person.name !== data.owner)
              .map((person) => (
                <option key={person.name} value={person.name}>
                  {person.display}
                </option>
              ))}
          </select>
        </Labelled>
        <Button type="submit" quiet disabled={transfer.isPending || !owner}>
          Transfer
        </Button>
      </form>
      {transfer.error && <ErrorMessage error={transfer.error} />}
      {asks && !data.renewed_by && (
        <p className="mt-3">
          <PageLink to={`/exceptions/new?renews=${data.id}`}>Ask to renew it</PageLink>
        </p>
      )}
    </details>
  );
}

export function Attachments({ data }: { data: Exception }) {
  const [title, setTitle] = useState("");
  const [link, setLink] = useState("");
  const [sha256, setDigest] = useState("");
  const key = useKey();
  const attach = useSend(
    () =>
      client.POST("/api/v1/exceptions/{exception}/attachments", {
        params: { path: { exception: data.id } },
        body: { title, link, sha256 },
        headers: key.headers(title + link + sha256),
      }),
    () => {
      key.renew();
      setTitle("");
      setLink("");
      setDigest("");
    },
  );
  const hash = async (file: File | undefined) => {
    if (!file) return;
    const digest = await crypto.subtle.digest("SHA-256", await file.arrayBuffer());
    setDigest([...new Uint8Array(digest)].map((byte) => byte.toString(16).padStart(2, "0")).join(""));
    if (!title) setTitle(file.name);
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    attach.mutate();
  };
  return (
    <Panel title="Evidence attached">
      {data.attachments.length === 0 && <Empty>Nothing is attached.</Empty>}
      <ul className="space-y-2">
        {data.attachments.map((one) => (
          <li key={one.number}>
            <a href={one.link} rel="noreferrer">
              {one.title}
            </a>
            <span className="block text-sm break-all text-ink-2">
              {one.by}, {day(one.at)}
              {one.sha256 && ` · SHA-256 ${one.sha256}`}
            </span>
          </li>
        ))}
      </ul>
      {data.actions.includes("attach") && (
        <details className="mt-3">
          <summary className="cursor-pointer font-semibold">Attach by link</summary>
          <form onSubmit={submit} className="mt-2 grid gap-3 sm:grid-cols-2">
            <Labelled label="What it is">
              <input className="field" required value={title} onChange={(event) => setTitle(event.target.value)} />
            </Labelled>
            <Labelled label="Link">
              <input
                className="field"
                type="url"
                required
                value={link}
                onChange={(event) => setLink(event.target.value)}
              />
            </Labelled>
            <Labelled label="The same as a file" hint={sha256 || "Only its SHA-256 is sent."}>
              <input className="field" type="file" onChange={(event) => hash(event.target.files?.[0])} />
            </Labelled>
            <div className="self-end">
              <Button type="submit" quiet disabled={attach.isPending}>
                Attach
              </Button>
            </div>
            {attach.error && <ErrorMessage error={attach.error} />}
          </form>
        </details>
      )}
    </Panel>
  );
}

const KINDS = { comment: "", question: "asks back", answer: "answers" } as const;

export function Said({ data }: { data: Exception }) {
  const [text, setText] = useState("");
  const [question, setQuestion] = useState(false);
  const key = useKey();
  const say = useSend(
    () =>
      client.POST("/api/v1/exceptions/{exception}/comments", {
        params: { path: { exception: data.id } },
        body: { text, question },
        headers: key.headers(text),
      }),
    () => {
      key.renew();
      setText("");
      setQuestion(false);
    },
  );
  const answers = data.actions.includes("answer");
  return (
    <Panel title="Said about it">
      {data.comments.length === 0 && <p className="text-ink-2">Nothing yet.</p>}
      <ul className="space-y-2">
        {data.comments.map((one) => (
          <li key={`${one.at}${one.by}${one.text}`}>
            <strong>{one.by}</strong> {KINDS[one.kind]}
            <span className="text-sm text-ink-2"> {day(one.at)}</span>
            <span className="block">{one.text}</span>
          </li>
        ))}
      </ul>
      {data.actions.includes("comment") && (
        <form
          className="mt-3 grid gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            say.mutate();
          }}
        >
          <Labelled label={answers ? "Your answer" : "Comment"}>
            <textarea
              className="field"
              rows={2}
              required
              value={text}
              onChange={(event) => setText(event.target.value)}
            />
          </Labelled>
          {data.actions.includes("ask-back") && (
            <CheckboxField
              label="Ask the requester back; it waits for the answer"
              checked={question}
              set={setQuestion}
            />
          )}
          <div>
            <Button type="submit" quiet disabled={say.isPending}>
              {answers ? "Answer" : question ? "Ask back" : "Say it"}
            </Button>
          </div>
          {say.error && <ErrorMessage error={say.error} />}
        </form>
      )}
    </Panel>
  );
}
