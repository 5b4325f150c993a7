import { useMutation } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, client, ProblemError, queries } from "../../api/api";
import { Button, ErrorMessage, Heading, Labelled } from "../../ui/parts";

export function SignIn() {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const ways = api.useQuery("get", "/api/v1/session/ways");
  const provider = ways.data?.provider;
  const signIn = useMutation({
    mutationFn: () => client.POST("/api/v1/session", { body: { name, password, code } }),
    onSuccess: () => queries.resetQueries(),
  });
  const asked = signIn.error instanceof ProblemError && signIn.error.problem.type.endsWith(":code");
  const submit = (event: FormEvent) => {
    event.preventDefault();
    signIn.mutate();
  };
  return (
    <main className="mx-auto grid min-h-dvh max-w-sm content-center p-6">
      <img src="/icon.svg" alt="" className="mb-4 size-14" />
      <Heading title="Door Stone">Upgrade requirements sorted, excepted, carried through.</Heading>
      <form onSubmit={submit} className="slab space-y-4">
        <Labelled label="Name">
          <input
            className="field"
            autoComplete="username"
            required
            value={name}
            onChange={(event) => setName(event.target.value)}
          />
        </Labelled>
        <Labelled label="Password">
          <input
            className="field"
            type="password"
            autoComplete="current-password"
            required
            value={password}
            onChange={(event) => setPassword(event.target.value)}
          />
        </Labelled>
        {(asked || code) && (
          <Labelled label="Code" hint="The six digits that your authenticator shows">
            <input
              className="field"
              inputMode="numeric"
              autoComplete="one-time-code"
              value={code}
              onChange={(event) => setCode(event.target.value)}
            />
          </Labelled>
        )}
        {signIn.error && <ErrorMessage error={signIn.error} />}
        <Button type="submit" disabled={signIn.isPending} className="w-full">
          {signIn.isPending ? "Signing in…" : "Sign in"}
        </Button>
      </form>
      {provider && (
        <p className="mt-4 text-center">
          <a href="/api/v1/session/provider" className="font-semibold">
            Sign in through {new URL(provider).host}
          </a>
        </p>
      )}
    </main>
  );
}
