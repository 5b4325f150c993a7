// A word above a page on what it could not read and does not say itself.
import { type Query, useQueryClient } from "@tanstack/react-query";
import { ProblemError } from "../api/api";
import { useUnread } from "../api/unread";
import { Button } from "../ui/parts";

export function Unread() {
  const client = useQueryClient();
  const queries = useUnread();
  if (queries.length === 0) return null;
  const [error] = queries.map((query) => query.state.error as unknown);
  const problem = error instanceof ProblemError ? error.problem : null;
  return (
    <div role="alert" className="mb-4 rounded-lg border-2 border-floor bg-slab p-4">
      <p className="font-semibold text-floor">
        Not all of this page could be read. Missing: {[...new Set(queries.map(wanted))].join(", ")}.
      </p>
      {problem && (
        <p className="mt-2 text-ink-2">
          {problem.detail}. {problem.hint}.
        </p>
      )}
      <Button
        quiet
        className="mt-3"
        onClick={() => client.refetchQueries({ predicate: (one) => queries.includes(one) })}
      >
        Read again
      </Button>
    </div>
  );
}

/** What a query asks for, in words: the last part of its path that is no id. */
function wanted(query: Query): string {
  const parts = String(query.queryKey[1]).split("/");
  const last = parts.findLast((part) => part && !part.startsWith("{")) ?? "";
  return last.replaceAll("-", " ");
}
