// The frame around every page: who is signed in, where one is, against which release.
import { clsx } from "clsx";
import { ToggleGroup } from "radix-ui";
import { useEffect, useRef, useState } from "react";
import { NavLink, Outlet, useLocation, useNavigate, useSearchParams } from "react-router";
import {
  actFor,
  api,
  client,
  forgetPlace,
  inPlaceOf,
  type Platform,
  ProblemError,
  queries,
  type Session,
} from "../api/api";
import { SignIn } from "../pages/people/sign-in";
import { LoadSheet } from "../pages/platforms/sheets";
import { applyTheme, savedTheme, type Theme } from "../theme";
import { Button, day, Empty, ErrorMessage, Heading, keep, Loading, PageLink, useParam } from "../ui/parts";
import { allows, type Here } from "./here";
import { Unread } from "./unread";

/** Pages that are not listed, each with the one from which people come to it. */
const BESIDE: Record<string, string> = {
  uncovered: "/exceptions",
  unplaced: "/devices",
  lives: "/devices",
  "budget-paper": "/plan",
};
const PAGES = [
  ["/", "Overview"],
  ["/sheets", "Sheets"],
  ["/tasks", "Tasks"],
  ["/readings", "Readings"],
  ["/devices", "Devices"],
  ["/disputes", "Disputes"],
  ["/sorting", "Sorting"],
  ["/fixes", "Fixes"],
  ["/fleet", "Fleet"],
  ["/exceptions", "Exceptions"],
  ["/media", "Media"],
  ["/kits", "Kits"],
  ["/forecast", "Forecast"],
  ["/plan", "Plan"],
  ["/due", "Due"],
  ["/ledger", "Ledger"],
  ["/people", "People"],
  ["/webhooks", "Webhooks"],
  ["/doctor", "Check-up"],
] as const;

/** Pages for those only who may do what they are for. */
const NEEDS: Record<string, string> = { "/webhooks": "add_webhook", "/doctor": "doctor" };

export function Frame() {
  const session = api.useQuery("get", "/api/v1/session", {}, { retry: false });
  if (session.isPending) return <Loading what="the session" />;
  if (session.error) {
    const gone = session.error as unknown;
    if (gone instanceof ProblemError && gone.problem.status === 401) return <SignIn />;
    if (inPlaceOf() && gone instanceof ProblemError && gone.problem.status === 403) actFor("");
    return (
      <main className="p-6">
        <ErrorMessage error={gone} again={session.refetch} />
      </main>
    );
  }
  return <SignedIn me={session.data} />;
}

function SignedIn({ me }: { me: Session }) {
  const platforms = api.useQuery("get", "/api/v1/platforms");
  const [chosen] = useParam("platform");
  const platform = platforms.data?.items.find((one) => one.id === chosen) ?? platforms.data?.items[0];
  const [asked] = useParam("release", platform?.target ?? "");
  const release = platform?.releases.some((one) => one.id === asked) ? asked : (platform?.target ?? "");
  return (
    <div className="min-h-dvh lg:grid lg:grid-cols-[13rem_1fr]">
      <a href="#main" className="sr-only focus:not-sr-only focus:absolute focus:z-10 focus:bg-slab focus:p-2">
        To the page
      </a>
      <Rail me={me} platforms={platforms.data?.items ?? []} platform={platform} release={release} />
      <main id="main" className="mx-auto w-full max-w-6xl min-w-0 p-4 sm:p-7">
        {platforms.error ? (
          <ErrorMessage error={platforms.error} again={platforms.refetch} />
        ) : platforms.isPending ? (
          <Loading what="the platforms" />
        ) : platform ? (
          <>
            <Unread />
            <Outlet context={{ me, platform, release } satisfies Here} />
          </>
        ) : allows(me, "load_sheet") ? (
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

function Rail({
  me,
  platforms,
  platform,
  release,
}: {
  me: Session;
  platforms: Platform[];
  platform: Platform | undefined;
  release: string;
}) {
  const [, setRelease] = useParam("release", platform?.target ?? "");
  const [params] = useSearchParams();
  const go = useNavigate();
  const place = useLocation().pathname.split("/")[1] ?? "";
  const listed = useRef<HTMLUListElement>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: with the place another page is marked, with the platform there is less room
  useEffect(() => {
    listed.current
      ?.querySelector("[aria-current], [data-beside]")
      ?.scrollIntoView?.({ block: "nearest", inline: "nearest" });
  }, [place, platform]);
  const signOut = async () => {
    forgetPlace();
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
      <nav aria-label="Pages" className="my-3 -mx-1 overflow-x-auto lg:my-2 lg:min-h-0 lg:overflow-y-auto">
        <ul ref={listed} className="flex gap-0.5 p-1 lg:flex-col lg:gap-0 lg:py-0">
          {PAGES.filter(([to]) => !(to in NEEDS) || allows(me, NEEDS[to] ?? "")).map(([to, words]) => (
            <li key={to}>
              <NavLink
                to={keep(to, params)}
                end={to === "/"}
                data-beside={BESIDE[place] === to || undefined}
                className={({ isActive }) =>
                  clsx(
                    "block rounded-md px-3 py-0.5 text-ink no-underline hover:bg-slab lg:leading-[1.28]",
                    (isActive || BESIDE[place] === to) && "bg-slab font-semibold shadow-[inset_3px_0_0_var(--accent)]",
                  )
                }
              >
                {words}
              </NavLink>
            </li>
          ))}
        </ul>
      </nav>
      <div className="flex flex-wrap items-end gap-2.5 text-sm lg:mt-auto lg:flex-col lg:items-stretch">
        {platform && platforms.length > 1 && (
          <label className="block">
            <span className="mb-0.5 block font-semibold">Platform</span>
            <select
              className="field"
              value={platform.id}
              onChange={(event) => go(`/${place}?platform=${event.target.value}`)}
            >
              {platforms.map((one) => (
                <option key={one.id} value={one.id}>
                  {one.name}
                </option>
              ))}
            </select>
          </label>
        )}
        {platform && (
          <label className="block">
            <span className="mb-0.5 block font-semibold">Towards release</span>
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
        {(me.acts_for.length > 0 || me.in_place_of) && (
          <label className="block">
            <span className="mb-0.5 block font-semibold">Acting for</span>
            <select className="field" value={me.in_place_of} onChange={(event) => actFor(event.target.value)}>
              <option value="">myself</option>
              {me.acts_for.map((name) => (
                <option key={name}>{name}</option>
              ))}
            </select>
          </label>
        )}
        <p className="text-ink-2">
          {me.in_place_of ? (
            <strong className="text-open">
              {me.display}, in place of {me.in_place_of}
            </strong>
          ) : (
            <PageLink to="/me">{me.display}</PageLink>
          )}
          , {me.role}, {day(me.today)}
        </p>
        <Button quiet className="min-h-8 py-0" onClick={signOut}>
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
