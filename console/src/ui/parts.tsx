// Small parts that every page is built of.
import { clsx } from "clsx";
import type { ButtonHTMLAttributes, ReactNode } from "react";
import { Link, type LinkProps, useSearchParams } from "react-router";
import { ProblemError } from "../api/api";
import { useShown } from "../api/unread";

export function Button({
  quiet = false,
  className,
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { quiet?: boolean }) {
  return (
    <button
      type="button"
      {...rest}
      className={clsx(
        "min-h-9 cursor-pointer rounded-md border px-3.5 py-1 font-semibold disabled:cursor-not-allowed disabled:opacity-60",
        quiet
          ? "border-ink-2 bg-transparent text-ink hover:bg-slab-2"
          : "border-accent bg-accent text-on-accent hover:brightness-110",
        className,
      )}
    />
  );
}

/** The address `to` with the platform and the target release of the page that it stands on. */
export function keep(to: string, params: URLSearchParams): string {
  let kept = to;
  for (const name of ["platform", "release"]) {
    const value = params.get(name);
    if (value && !to.includes(`${name}=`)) kept += `${kept.includes("?") ? "&" : "?"}${name}=${value}`;
  }
  return kept;
}

/** A link that keeps the platform and the target release. */
export function PageLink({ to, ...rest }: LinkProps & { to: string }) {
  const [params] = useSearchParams();
  return <Link {...rest} to={keep(to, params)} />;
}

/** A region that scrolls sideways, and can be reached to do so. */
export function Scroll({ label, className, children }: { label: string; className?: string; children: ReactNode }) {
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable
    <section className={clsx("relative overflow-x-auto", className)} tabIndex={0} aria-label={label}>
      {children}
    </section>
  );
}

export function CheckboxField({
  label,
  checked,
  set,
}: {
  label: string;
  checked: boolean;
  set: (on: boolean) => void;
}) {
  return (
    <label className="flex items-center gap-2">
      <input type="checkbox" className="size-4" checked={checked} onChange={(event) => set(event.target.checked)} />
      {label}
    </label>
  );
}

/** A labelled list of values; unless one is needed, the first leaves it open. */
export function Choice({
  label,
  value,
  set,
  of,
  disabled = false,
  needed = false,
  nothing = "any",
}: {
  label: string;
  value: string;
  set: (value: string) => void;
  of: readonly (readonly [string, string])[];
  disabled?: boolean;
  needed?: boolean;
  nothing?: string;
}) {
  return (
    <Labelled label={label}>
      <select className="field" value={value} disabled={disabled} onChange={(event) => set(event.target.value)}>
        {!needed && <option value="">{nothing}</option>}
        {of.map(([name, words]) => (
          <option key={name} value={name}>
            {words}
          </option>
        ))}
      </select>
    </Labelled>
  );
}

export function Panel({ title, children, aside }: { title: string; children: ReactNode; aside?: ReactNode }) {
  return (
    <section className="slab min-w-0">
      <div className="mb-3 flex flex-wrap items-baseline justify-between gap-2">
        <h2 className="text-lg">{title}</h2>
        {aside}
      </div>
      {children}
    </section>
  );
}

export function Heading({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <header className="mb-5">
      <title>{`${title} · Door Stone`}</title>
      <h1 className="text-2xl sm:text-3xl">{title}</h1>
      {children && <div className="mt-1 text-ink-2">{children}</div>}
    </header>
  );
}

export function Loading({ what }: { what: string }) {
  return (
    <div role="status" className="slab animate-pulse text-ink-2">
      Reading {what}…
    </div>
  );
}

export function Empty({ children }: { children: ReactNode }) {
  return <p className="rounded-md border border-dashed border-edge px-4 py-6 text-center text-ink-2">{children}</p>;
}

/** What is wrong, said at once and in words; below it what can be done. */
export function Alert({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div role="alert" className="rounded-lg border-2 border-floor bg-slab p-4">
      <p className="font-semibold text-floor">{title}</p>
      {children}
    </div>
  );
}

/** An error in words: what is wrong, where, and what to do; a service that failed may be asked `again`. */
export function ErrorMessage({ error, again }: { error: unknown; again?: (() => unknown) | undefined }) {
  useShown(error);
  const problem = error instanceof ProblemError ? error.problem : null;
  const failed = problem && (problem.status === 0 || problem.status >= 500);
  return (
    <Alert title={problem?.detail ?? "Something failed in the console."}>
      {problem && problem.errors.length > 0 && (
        <ul className="mt-2 space-y-1.5">
          {problem.errors.map((entry) => (
            <li key={`${entry.pointer}${entry.detail}`}>
              <strong>{entry.pointer}</strong>: {entry.detail}. <span className="text-ink-2">{entry.hint}.</span>
            </li>
          ))}
        </ul>
      )}
      {problem?.hint && <p className="mt-2 text-ink-2">{problem.hint}.</p>}
      {failed && again && (
        <Button quiet className="mt-3" onClick={() => again()}>
          Read again
        </Button>
      )}
    </Alert>
  );
}

type Result<T> = { data: T | undefined; error: unknown; isFetchNextPageError?: boolean; refetch?: () => unknown };

/** A query's faces: being read, failed, there; what was read before stays when it fails to be read again. */
export function Loaded<T>({ of, what, children }: { of: Result<T>; what: string; children: (data: T) => ReactNode }) {
  if (of.data === undefined)
    return of.error ? <ErrorMessage error={of.error} again={of.refetch} /> : <Loading what={what} />;
  return (
    <>
      {of.error !== null && !of.isFetchNextPageError && (
        <div className="mb-4">
          <ErrorMessage error={of.error} again={of.refetch} />
        </div>
      )}
      {children(of.data)}
    </>
  );
}

type Pages = {
  error: unknown;
  hasNextPage: boolean;
  isFetchingNextPage: boolean;
  isFetchNextPageError: boolean;
  fetchNextPage: () => unknown;
};

/** Reads the next page of a list, if there is one; below the button it says why that failed. */
export function More({ of, children }: { of: Pages; children: string }) {
  if (!of.hasNextPage) return null;
  return (
    <div className="mt-3 space-y-3">
      <Button quiet disabled={of.isFetchingNextPage} onClick={() => of.fetchNextPage()}>
        {of.isFetchingNextPage ? "Reading…" : children}
      </Button>
      {of.isFetchNextPageError && <ErrorMessage error={of.error} />}
    </div>
  );
}

export function Labelled({ label, hint, children }: { label: string; hint?: string; children: ReactNode }) {
  return (
    // biome-ignore lint/a11y/noLabelWithoutControl: the control is the child
    <label className="block">
      <span className="mb-1 block font-semibold">{label}</span>
      {children}
      {hint && <span className="mt-1 block text-sm text-ink-2">{hint}</span>}
    </label>
  );
}

const DAY = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", year: "numeric", timeZone: "UTC" });

/** A day as people read it: 18 Jan 2027. */
export const day = (iso: string | null | undefined) =>
  iso ? DAY.format(new Date(`${iso.slice(0, 10)}T00:00:00Z`)) : "–";

export const count = (number: number, word: string) =>
  `${number.toLocaleString("en")} ${word}${number === 1 ? "" : "s"}`;

/** One search parameter of the address, and how to change it. */
export function useParam(name: string, fallback = ""): [string, (value: string) => void] {
  const [params, setParams] = useSearchParams();
  const set = (value: string) =>
    setParams(
      () => {
        // The address as it is now: what was drawn last may not know yet of another choice made just before.
        const next = new URLSearchParams(window.location.search);
        if (value && value !== fallback) next.set(name, value);
        else next.delete(name);
        return next;
      },
      { replace: true },
    );
  return [params.get(name) ?? fallback, set];
}
