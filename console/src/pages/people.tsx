import { type FormEvent, useState } from "react";
import { api, client, once, useSend } from "../api/api";
import { useHere } from "../frame";
import { Button, day, Empty, Heading, Labelled, Shown, Slab, Trouble } from "../ui/parts";

const ROLES = ["viewer", "technician", "approver", "administrator"] as const;
type Role = (typeof ROLES)[number];

export function PeoplePage() {
  const { me } = useHere();
  const people = api.useQuery("get", "/api/v1/people");
  const administers = me.role === "administrator";
  return (
    <>
      <Heading title="People">Who may sign in, and the tokens of programs.</Heading>
      <div className="grid gap-4 lg:grid-cols-2">
        <Slab title="People">
          <Shown of={people} what="the people">
            {(data) => (
              <ul>
                {data.items.map((person) => (
                  <li key={person.name} className="flex justify-between border-t border-edge py-1.5 first:border-0">
                    <span>
                      {person.display} <span className="text-ink-2">({person.name})</span>
                    </span>
                    {person.role}
                  </li>
                ))}
              </ul>
            )}
          </Shown>
        </Slab>
        {administers && <AddPerson />}
        <Issue />
        {administers && <Tokens />}
      </div>
    </>
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
    <Slab title="Add a person">
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
            <Trouble error={add.error} />
          </div>
        )}
      </form>
    </Slab>
  );
}

function Issue() {
  const { me } = useHere();
  const [name, setName] = useState("");
  const own = me.role as Role;
  const [role, setRole] = useState<Role>("viewer");
  const issue = useSend(
    async () => (await client.POST("/api/v1/tokens", { body: { name, role, days: 90 }, headers: once() })).data,
  );
  const submit = (event: FormEvent) => {
    event.preventDefault();
    issue.mutate();
  };
  return (
    <Slab title="Issue a token">
      <form onSubmit={submit} className="grid gap-3 sm:grid-cols-2">
        <Labelled label="What it is for">
          <input className="field" required value={name} onChange={(e) => setName(e.target.value)} />
        </Labelled>
        <RoleChoice
          role={role}
          set={setRole}
          of={own === "administrator" ? ROLES : [...new Set<Role>(["viewer", own])]}
        />
        <div className="sm:col-span-2">
          <Button type="submit" disabled={issue.isPending}>
            Issue for 90 days
          </Button>
        </div>
        {issue.error && <Trouble error={issue.error} />}
        {issue.data && (
          <p role="status" className="sm:col-span-2">
            {issue.data.id}, shown this once: <code className="break-all font-semibold">{issue.data.secret}</code>
          </p>
        )}
      </form>
    </Slab>
  );
}

function Tokens() {
  const found = api.useQuery("get", "/api/v1/tokens");
  const revoke = useSend((token: string) => client.DELETE("/api/v1/tokens/{token}", { params: { path: { token } } }));
  return (
    <Slab title="Tokens">
      <Shown of={found} what="the tokens">
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
                    <span className="block text-sm text-ink-2">
                      {token.revoked_at ? `revoked on ${day(token.revoked_at)}` : `through ${day(token.expires_on)}`}
                    </span>
                  </span>
                  {!token.revoked_at && (
                    <Button quiet disabled={revoke.isPending} onClick={() => revoke.mutate(token.id)}>
                      Revoke <span className="sr-only">{token.id}</span>
                    </Button>
                  )}
                </li>
              ))}
            </ul>
          )
        }
      </Shown>
      {revoke.error && <Trouble error={revoke.error} />}
    </Slab>
  );
}
