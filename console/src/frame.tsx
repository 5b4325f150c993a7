// The frame around every page: who is signed in, where one is, against which release.
import { clsx } from "clsx";
import { ToggleGroup } from "radix-ui";
import { useState } from "react";
import { NavLink, Outlet, useOutletContext } from "react-router";
import { api, client, type Platform, ProblemError, queries, type Session } from "./api/api";
import { LoadSheet } from "./pages/intake";
import { SignIn } from "./pages/sign-in";
import { applyTheme, savedTheme, type Theme } from "./theme";
import { Button, day, Empty, Heading, Loading, Trouble, useParam } from "./ui/parts";

export type Here = { me: Session; platform: Platform; release: string };
export const useHere = () => useOutletContext<Here>();

const PAGES = [
  ["/", "Overview"],
  ["/readings", "Readings"],
  ["/devices", "Devices"],
  ["/sorting", "Sorting"],
  ["/exceptions", "Exceptions"],
  ["/kits", "Kits"],
  ["/forecast", "Forecast"],
  ["/ledger", "Ledger"],
  ["/people", "People"],
] as const;

export function Frame() {
  const session = api.useQuery("get", "/api/v1/session", {}, { retry: false });
  if (session.isPending) return <Loading what="the session" />;
  if (session.error) {
    const gone = session.error as unknown;
    if (gone instanceof ProblemError && gone.problem.status === 401) return <SignIn />;
    return (
      <main className="p-6">
        <Trouble error={gone} />
      </main>
    );
  }
  return <SignedIn me={session.data} />;
}

function SignedIn({ me }: { me: Session }) {
  const platforms = api.useQuery("get", "/api/v1/platforms");
  const platform = platforms.data?.items[0];
  const [release] = useParam("release", platform?.target ?? "");
  return (
    <div className="min-h-dvh lg:grid lg:grid-cols-[13rem_1fr]">
      <a href="#main" className="sr-only focus:not-sr-only focus:absolute focus:z-10 focus:bg-slab focus:p-2">
        To the page
      </a>
      <Rail me={me} platform={platform} release={release} />
      <main id="main" className="mx-auto w-full max-w-6xl min-w-0 p-4 sm:p-7">
        {platforms.error ? (
          <Trouble error={platforms.error} />
        ) : platforms.isPending ? (
          <Loading what="the platforms" />
        ) : platform ? (
          <Outlet context={{ me, platform, release } satisfies Here} />
        ) : me.role === "administrator" ? (
          <Start />
        ) : (
          <Empty>
            No sheet is loaded yet. An administrator loads one with <code>doorstone sheet load FILE</code>.
          </Empty>
        )}
      </main>
    </div>
  );
}

/** What a first administrator meets. */
function Start() {
  return (
    <>
      <Heading title="Start with a sheet">
        A sheet describes one platform: its releases, what they ask, what fixes it, and what keeps set-up from refusing.
      </Heading>
      <LoadSheet />
    </>
  );
}

function Rail({ me, platform, release }: { me: Session; platform: Platform | undefined; release: string }) {
  const [, setRelease] = useParam("release", platform?.target ?? "");
  const kept = platform && release !== platform.target ? `?release=${release}` : "";
  const signOut = async () => {
    await client.DELETE("/api/v1/session");
    queries.clear();
    location.assign("/");
  };
  return (
    <header className="border-b border-edge bg-slab-2 p-4 lg:sticky lg:top-0 lg:flex lg:h-dvh lg:flex-col lg:border-r lg:border-b-0">
      <p className="flex items-center gap-2 font-head text-xl font-semibold">
        <img src="/icon.svg" alt="" className="size-7" />
        Door Stone
      </p>
      <nav aria-label="Pages" className="my-3 -mx-1 overflow-x-auto lg:my-6 lg:overflow-visible">
        <ul className="flex gap-1 p-1 lg:flex-col">
          {PAGES.map(([to, words]) => (
            <li key={to}>
              <NavLink
                to={`${to}${kept}`}
                end={to === "/"}
                className={({ isActive }) =>
                  clsx(
                    "block rounded-md px-3 py-1.5 text-ink no-underline hover:bg-slab",
                    isActive && "bg-slab font-semibold shadow-[inset_3px_0_0_var(--accent)]",
                  )
                }
              >
                {words}
              </NavLink>
            </li>
          ))}
        </ul>
      </nav>
      <div className="flex flex-wrap items-end gap-3 text-sm lg:mt-auto lg:flex-col lg:items-stretch">
        {platform && (
          <label className="block">
            <span className="mb-0.5 block font-semibold">{platform.name} towards</span>
            <select className="field" value={release} onChange={(event) => setRelease(event.target.value)}>
              {platform.releases.slice(1).map((known) => (
                <option key={known.id} value={known.id}>
                  {known.id}
                  {known.published > me.today ? ` (from ${day(known.published)})` : ""}
                </option>
              ))}
            </select>
          </label>
        )}
        <ThemeChoice />
        <p className="text-ink-2">
          {day(me.today)}
          <br />
          {me.display}, {me.role}
        </p>
        <Button quiet onClick={signOut}>
          Sign out
        </Button>
      </div>
    </header>
  );
}

function ThemeChoice() {
  const [theme, setTheme] = useState<Theme>(savedTheme());
  const choose = (value: string) => {
    if (value !== "light" && value !== "dark" && value !== "system") return;
    applyTheme(value);
    setTheme(value);
  };
  return (
    <ToggleGroup.Root
      type="single"
      value={theme}
      onValueChange={choose}
      aria-label="Colours"
      className="flex overflow-hidden rounded-md border border-ink-2"
    >
      {(["system", "light", "dark"] as const).map((name) => (
        <ToggleGroup.Item
          key={name}
          value={name}
          className="flex-1 cursor-pointer px-2 py-1 capitalize data-[state=on]:bg-accent data-[state=on]:text-on-accent"
        >
          {name}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  );
}
