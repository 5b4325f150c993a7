// Oneself: which mail one gets and where, the calendar of due dates, the password.
import { type FormEvent, useState } from "react";
import { api, client, useSend } from "../../api/api";
import { ConfirmButton } from "../../ui/confirm";
import { Button, CheckboxField, ErrorMessage, Heading, Labelled, Loaded, Panel } from "../../ui/parts";
import { DeputiesSlab } from "./deputies";

const NEWS = [
  ["request", "a request waits for a decision"],
  ["decision", "my request or exception was decided on, or lapsed"],
  ["question", "I am asked back"],
  ["comment", "somebody comments where I took part"],
  ["transfer", "an exception changes hands"],
  ["due", "something is due"],
] as const;
type News = (typeof NEWS)[number][0];

export function MePage() {
  const found = api.useQuery("get", "/api/v1/me");
  return (
    <>
      <Heading title="Me">Your mail, your deputy, your calendar, your password.</Heading>
      <Loaded of={found} what="what you have chosen">
        {(me) => (
          <div className="grid items-start gap-4 lg:grid-cols-2">
            <NewsByMail key={me.version} email={me.email} news={me.news} version={me.version} />
            <div className="grid content-start gap-4">
              <DeputiesSlab />
              <CalendarSlab has={me.has_calendar} />
              {me.origin === "password" && <PasswordSlab />}
              {me.origin === "password" && <SecondFactorSlab />}
            </div>
          </div>
        )}
      </Loaded>
    </>
  );
}

function NewsByMail({ email: held, news: had, version }: { email: string; news: News[]; version: number }) {
  const [email, setEmail] = useState(held);
  const [news, setNews] = useState<News[]>(had);
  const send = useSend(() =>
    client.PATCH("/api/v1/me", {
      params: { header: { "If-Match": `"v${version}"` } },
      body: { email, news },
    }),
  );
  const submit = (event: FormEvent) => {
    event.preventDefault();
    send.mutate();
  };
  return (
    <Panel title="News by mail">
      <form onSubmit={submit} className="grid gap-3">
        <Labelled label="Mail address" hint="Without an address no mail is sent.">
          <input className="field" type="email" value={email} onChange={(event) => setEmail(event.target.value)} />
        </Labelled>
        <fieldset className="grid gap-1">
          <legend className="mb-1 font-semibold">Mail me when</legend>
          {NEWS.map(([name, words]) => (
            <CheckboxField
              key={name}
              label={words}
              checked={news.includes(name)}
              set={(on) => setNews((old) => (on ? [...old, name] : old.filter((known) => known !== name)))}
            />
          ))}
        </fieldset>
        <div>
          <Button type="submit" disabled={send.isPending}>
            Keep it
          </Button>
        </div>
        {send.isSuccess && <p role="status">Kept.</p>}
        {send.error && <ErrorMessage error={send.error} />}
      </form>
    </Panel>
  );
}

function CalendarSlab({ has }: { has: boolean }) {
  const make = useSend(async () => (await client.POST("/api/v1/me/calendar")).data);
  const revoke = useSend(
    async () => {
      await client.DELETE("/api/v1/me/calendar");
    },
    () => make.reset(),
  );
  return (
    <Panel title="Calendar of due dates">
      <p className="mb-3 text-ink-2">
        An address that a calendar program subscribes to. Whoever has it can read it; a new one revokes the one before.
      </p>
      {make.data && (
        <p role="status" className="mb-3">
          Shown this once:{" "}
          <code className="font-semibold break-all">
            {location.origin}
            {make.data.path}
          </code>
        </p>
      )}
      <div className="flex flex-wrap gap-2">
        <Button quiet disabled={make.isPending} onClick={() => make.mutate()}>
          {has ? "Make a new address" : "Make an address"}
        </Button>
        {has && (
          <ConfirmButton
            label="Revoke it"
            title="Revoke the calendar address?"
            disabled={revoke.isPending}
            confirm={() => revoke.mutate()}
          >
            Every calendar program that subscribes to it stops receiving dates. A new address has to be given to each.
          </ConfirmButton>
        )}
      </div>
      {(make.error ?? revoke.error) != null && <ErrorMessage error={make.error ?? revoke.error} />}
    </Panel>
  );
}

function PasswordSlab() {
  const [old, setOld] = useState("");
  const [next, setNext] = useState("");
  const send = useSend(async () => {
    await client.PUT("/api/v1/me/password", { body: { old, new: next } });
  });
  return (
    <Panel title="Password">
      <form
        className="grid gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          send.mutate();
        }}
      >
        <Labelled label="Current password">
          <input
            className="field"
            type="password"
            autoComplete="current-password"
            required
            value={old}
            onChange={(event) => setOld(event.target.value)}
          />
        </Labelled>
        <Labelled label="New password" hint="10 characters or more. You are signed out everywhere.">
          <input
            className="field"
            type="password"
            autoComplete="new-password"
            required
            value={next}
            onChange={(event) => setNext(event.target.value)}
          />
        </Labelled>
        <div>
          <Button type="submit" quiet disabled={send.isPending}>
            Set it
          </Button>
        </div>
        {send.error && <ErrorMessage error={send.error} />}
      </form>
    </Panel>
  );
}

function SecondFactorSlab() {
  const [address, setAddress] = useState("");
  const [code, setCode] = useState("");
  const [current, setCurrent] = useState("");
  const begin = useSend(async () => {
    const { data } = await client.POST("/api/v1/me/second-factor", { body: { code: current } });
    setAddress(data?.address ?? "");
  });
  const confirm = useSend(
    async () => {
      await client.PUT("/api/v1/me/second-factor", { body: { code } });
    },
    () => setAddress(""),
  );
  const remove = useSend(async () => {
    await client.DELETE("/api/v1/me/second-factor", { body: { code: current } });
  });
  return (
    <Panel title="Second factor">
      <p className="mb-2">A sign-in takes a code of your authenticator as well as the password.</p>
      {address ? (
        <form
          className="grid gap-3"
          onSubmit={(event) => {
            event.preventDefault();
            confirm.mutate();
          }}
        >
          <p role="status">
            Give this to your authenticator; it is not shown again: <code className="break-all">{address}</code>
          </p>
          <Labelled label="The code that it shows now">
            <input
              className="field"
              inputMode="numeric"
              autoComplete="one-time-code"
              required
              value={code}
              onChange={(event) => setCode(event.target.value)}
            />
          </Labelled>
          <div>
            <Button type="submit" disabled={confirm.isPending}>
              Confirm it
            </Button>
          </div>
        </form>
      ) : (
        <div className="grid gap-3">
          <Labelled label="Current code" hint="Required to replace or remove a second factor that is set.">
            <input
              className="field"
              inputMode="numeric"
              autoComplete="one-time-code"
              value={current}
              onChange={(event) => setCurrent(event.target.value)}
            />
          </Labelled>
          <div className="flex flex-wrap gap-2">
            <Button quiet disabled={begin.isPending} onClick={() => begin.mutate()}>
              Set one up
            </Button>
            <ConfirmButton
              label="Do without one"
              title="Sign in without a second factor?"
              disabled={remove.isPending}
              confirm={() => remove.mutate()}
            >
              From the next sign-in on, the password alone is enough.
            </ConfirmButton>
          </div>
        </div>
      )}
      {confirm.isSuccess && !address && <p role="status">It is set.</p>}
      {(begin.error ?? confirm.error ?? remove.error) != null && (
        <ErrorMessage error={begin.error ?? confirm.error ?? remove.error} />
      )}
    </Panel>
  );
}
