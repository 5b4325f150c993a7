// Which problems stand on the page, and which queries failed without one: what was not read is never shown as empty.
import { type Query, useQueryClient } from "@tanstack/react-query";
import { useCallback, useLayoutEffect, useSyncExternalStore } from "react";
import { ProblemError } from "./api";

const shown = new Map<unknown, number>();
const listeners = new Set<() => void>();

/** What is said of an error: the same words once are enough. */
const wordsOf = (error: unknown) => (error instanceof ProblemError ? error.problem.detail : error);

function show(error: unknown, by: number) {
  const words = wordsOf(error);
  shown.set(words, (shown.get(words) ?? 0) + by);
  if (shown.get(words) === 0) shown.delete(words);
  for (const listener of listeners) listener();
}

/** Says that an error stands on the page, for as long as the caller does. */
export function useShown(error: unknown) {
  useLayoutEffect(() => {
    show(error, 1);
    return () => show(error, -1);
  }, [error]);
}

/** The queries in use that failed and of whose problem nothing stands on the page. */
export function useUnread(): Query[] {
  const cache = useQueryClient().getQueryCache();
  const subscribe = useCallback(
    (listener: () => void) => {
      const leave = cache.subscribe(listener);
      listeners.add(listener);
      return () => {
        leave();
        listeners.delete(listener);
      };
    },
    [cache],
  );
  const failed = () =>
    cache
      .getAll()
      .filter((query) => query.isActive() && query.state.status === "error" && !shown.has(wordsOf(query.state.error)));
  useSyncExternalStore(subscribe, () =>
    failed()
      .map((query) => query.queryHash + query.state.errorUpdateCount)
      .join(),
  );
  return failed();
}
