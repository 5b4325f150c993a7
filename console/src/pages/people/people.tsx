import { type FormEvent, useState } from "react";
import { api, client, once, type Person, useSend } from "../../api/api";
import { allows, useHere } from "../../frame/here";
import { ConfirmButton } from "../../ui/confirm";
import { Button, day, Empty, ErrorMessage, Heading, Labelled, Loaded, Panel } from "../../ui/parts";

const ROLES = ["viewer", "technician", "approver", "administrator"] as const;
type Role = (typeof ROLES)[number];
type TokenRole = Role | "reporter";

export function PeoplePage() {
  const { me } = useHere();
  const people = api.useQuery("get", "/api/v1/people");
  const administers = allows(me, "add_person");
  return (
    <>
      <Heading title="People">Who may sign in, and the tokens of programs.</Heading>
      <div className="grid gap-4 lg:grid-cols-2">
        <Panel title="People">
          <Loaded of={people} what="the people">
            {(data) => (
              <ul>
                {data.items.map((person) => (
                  <OnePerson key={`${person.name}${person.version}`} person={person} administers={administers} />
                ))}
              </ul>
            )}
          </Loaded>
        </Panel>
        {administers && <AddPerson />}
        <Issue />
        <Tokens />
        {administers && <SignIns />}
      </div>
    </>
  );
}

function OnePerson({ person, administers }: { person: Person; administers: boolean }) {
  const greater = Object.entries(person.sites).map(([site, role]) => `${role} at ${site}`);
  return (
    <li className="border-t border-edge py-1.5 first:border-0">
      <p className="flex justify-between gap-3">
        <span>
          {person.display} <span className="text-ink-2">({person.name})</span>
        </span>
        <span className="text-right">
          {person.role}
          {greater.length > 0 && <span className="block text-sm text-ink-2">{greater.join(", ")}</span>}
        </span>
      </p>
      {person.owns.length > 0 && <p className="text-sm text-ink-2">answers for {person.owns.join(", ")}</p>}
      {administers && <Change person={person} />}
    </li>
  );
}

function Change({ person }: { person: Person }) {
  const { platform } = useHere();
  const [role, setRole] = useState<Role>(person.role);
  const [site, setSite] = useState("");
  const [there, setThere] = useState<Role>("technician");
  const query = { platform: platform.id, limit: 1 };
  const devices = api.useQuery("get", "/api/v1/devices", { params: { query } });
  const change = useSend((body: { role?: Role; sites?: Record<string, Role>; active?: boolean }) =>
    client.PATCH("/api/v1/people/{person}", {
      params: { path: { person: person.name }, header: { "If-Match": `"v${person.version}"` } },
      body: { display: null, role: null, sites: null, email: null, news: null, active: null, ...body },
    }),
  );
  return (
    <details className="text-sm">
      <summary className="cursor-pointer text-ink-2">
        Change<span className="sr-only"> {person.name}</span>
      </summary>
      <div className="mt-2 grid gap-3 sm:grid-cols-2">
        <div className="flex items-end gap-2">
          <RoleChoice role={role} set={setRole} />
          <Button quiet disabled={role === person.role || change.isPending} onClick={() => change.mutate({ role })}>
            Set
          </Button>
        </div>
        <div className="flex items-end gap-2">
          <Labelled label="Greater at">
            <select className="field" value={site} onChange={(event) => setSite(event.target.value)}>
              <option value="">no site</option>
              {(devices.data?.sites ?? []).map((name) => (
                <option key={name}>{name}</option>
              ))}
            </select>
          </Labelled>
          <RoleChoice role={there} set={setThere} />
          <Button
            quiet
            disabled={change.isPending}
            onClick={() => change.mutate({ sites: site ? { ...person.sites, [site]: there } : {} })}
          >
            Set<span className="sr-only"> it for the site</span>
          </Button>
        </div>
        <div>
          <ConfirmButton
            label={`Shut ${person.name} out`}
            title={`Shut ${person.name} out?`}
            disabled={change.isPending}
            confirm={() => change.mutate({ active: false })}
          >
            {person.display} is signed out everywhere, and their tokens and calendar address stop working at once. What
            they have approved and recorded stays.
          </ConfirmButton>
        </div>
      </div>
      {change.error && <ErrorMessage error={change.error} />}
    </details>
  );
}

function RoleChoice({ role, set, of = ROLES }: { role: Role; set: (role: Role) => void; of?: readonly Role[] }) {
  return (
    <Labelled label="Role">
      <select className="field" value={role} onChange={(event) => set(event.target.value as Role)}>
        {of.map((name) => (
          <option key={name}>{name}</option>
        ))}
      </select>
    </Labelled>
  );
}

function AddPerson() {
  const [name, setName] = useState("");
  const [display, setDisplay] = useState("");
  const [role, setRole] = useState<Role>("viewer");
  const [password, setPassword] = useState("");
  const add = useSend(
    async () => {
      await client.POST("/api/v1/people", { body: { name, display, role, password } });
    },
    () => setPassword(""),
  );
  const submit = (event: FormEvent) => {
    event.preventDefault();
    add.mutate();
  };
  return (
    <Panel title="Add a person">
      <form onSubmit={submit} className="grid gap-3 sm:grid-cols-2">
        <Labelled label="Name to sign in with">
          <input className="field" required value={name} onChange={(e) => setName(e.target.value)} />
        </Labelled>
        <Labelled label="Full name">
          <input className="field" value={display} onChange={(e) => setDisplay(e.target.value)} />
        </Labelled>
        <RoleChoice role={role} set={setRole} />
        <Labelled label="Password" hint="10 characters or more.">
          <input
            className="field"
            type="password"
            autoComplete="new-password"
            required
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </Labelled>
        <div className="sm:col-span-2">
          <Button type="submit" disabled={add.isPending}>
            Add
          </Button>
        </div>
        {add.error && (
          <div className="sm:col-span-2">
            <ErrorMessage error={add.error} />
          </div>
        )}
      </form>
    </Panel>
  );
}

function Issue() {
  const { me } = useHere();
  const [name, setName] = useState("");
  const [role, setRole] = useState<TokenRole>("viewer");
  const [device, setDevice] = useState("");
  const issue = useSend(async () => {
    const body = { name, role, days: 90, device: role === "reporter" ? device : "", session: false };
    return (await client.POST("/api/v1/tokens", { body, headers: once() })).data;
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    issue.mutate();
  };
  return (
    <Panel title="Issue a token">
      <form onSubmit={submit} className="grid gap-3 sm:grid-cols-2">
        <Labelled label="What it is for">
          <input className="field" required value={name} onChange={(e) => setName(e.target.value)} />
        </Labelled>
        <Labelled label="Role">
          <select className="field" value={role} onChange={(event) => setRole(event.target.value as TokenRole)}>
            {me.token_roles.map((known) => (
              <option key={known}>{known}</option>
            ))}
          </select>
        </Labelled>
        {role === "reporter" && (
          <Labelled label="Only of the device" hint="A reporter may only post readings; of any device if left empty.">
            <input className="field" value={device} onChange={(event) => setDevice(event.target.value)} />
          </Labelled>
        )}
        <div className="sm:col-span-2">
          <Button type="submit" disabled={issue.isPending}>
            Issue for 90 days
          </Button>
        </div>
        {issue.error && <ErrorMessage error={issue.error} />}
        {issue.data && (
          <p role="status" className="sm:col-span-2">
            {issue.data.id}, shown this once: <code className="break-all font-semibold">{issue.data.secret}</code>
          </p>
        )}
      </form>
    </Panel>
  );
}

function Tokens() {
  const found = api.useQuery("get", "/api/v1/tokens");
  const revoke = useSend((token: string) => client.DELETE("/api/v1/tokens/{token}", { params: { path: { token } } }));
  return (
    <Panel title="Tokens">
      <Loaded of={found} what="the tokens">
        {(data) =>
          data.items.length === 0 ? (
            <Empty>No token has been issued.</Empty>
          ) : (
            <ul>
              {data.items.map((token) => (
                <li
                  key={token.id}
                  className="flex flex-wrap items-center justify-between gap-2 border-t border-edge py-1.5 first:border-0"
                >
                  <span>
                    <strong>{token.id}</strong> {token.name}, {token.person}, {token.role}
                    {token.device && ` of ${token.device}`}
                    <span className="block text-sm text-ink-2">
                      {token.revoked_at ? `revoked on ${day(token.revoked_at)}` : `through ${day(token.expires_on)}`}
                      {token.last_used_at ? `, last used on ${day(token.last_used_at)}` : ", never used"}
                    </span>
                  </span>
                  {!token.revoked_at && (
                    <ConfirmButton
                      label="Revoke"
                      hidden={token.id}
                      title={`Revoke ${token.id}?`}
                      disabled={revoke.isPending}
                      confirm={() => revoke.mutate(token.id)}
                    >
                      Whatever uses “{token.name}” is refused from now on. A revoked token cannot be restored; issue
                      another one instead.
                    </ConfirmButton>
                  )}
                </li>
              ))}
            </ul>
          )
        }
      </Loaded>
      {revoke.error && <ErrorMessage error={revoke.error} />}
    </Panel>
  );
}

const CAME: Record<string, string> = {
  "signed-in": "signed in",
  failed: "failed",
  throttled: "had to wait",
  refused: "was refused",
};

function SignIns() {
  const found = api.useQuery("get", "/api/v1/sign-ins", { params: { query: { limit: 20 } } });
  return (
    <Panel title="Sign-ins">
      <Loaded of={found} what="the sign-ins">
        {(data) =>
          data.items.length === 0 ? (
            <Empty>Nobody has signed in yet.</Empty>
          ) : (
            <ul>
              {data.items.map((one) => (
                <li key={one.id} className="flex justify-between gap-3 border-t border-edge py-1 first:border-0">
                  <span>
                    {one.name} {CAME[one.outcome]}
                    <span className="block text-sm text-ink-2">
                      {one.way} from {one.address || "here"}
                    </span>
                  </span>
                  <span className="whitespace-nowrap text-ink-2">
                    {day(one.at)}, {one.at.slice(11, 16)}
                  </span>
                </li>
              ))}
            </ul>
          )
        }
      </Loaded>
    </Panel>
  );
}
