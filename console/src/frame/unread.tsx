// A word above a page on what it could not read and does not say itself.
import { type Query, useQueryClient } from "@tanstack/react-query";
import { ProblemError } from "../api/api";
import { useUnread } from "../api/unread";
import { Alert, Button } from "../ui/parts";

export function Unread() {
  const client = useQueryClient();
  const queries = useUnread();
  if (queries.length === 0) return null;
  const words = (texts: string[]) => [...new Set(texts)];
  return (
    <div className="mb-4">
      <Alert title={`Not all of this page could be read. Missing: ${words(queries.map(wanted)).join(", ")}.`}>
        {words(queries.map(why)).map((one) => (
          <p key={one} className="mt-2 text-ink-2">
            {one}
          </p>
        ))}
        <Button
          quiet
          className="mt-3"
          onClick={() => client.refetchQueries({ predicate: (one) => queries.includes(one) })}
        >
          Read again
        </Button>
      </Alert>
    </div>
  );
}

/** What a query asks for, in words: the last part of its path that is no id. */
function wanted(query: Query): string {
  const parts = String(query.queryKey[1]).split("/");
  const last = parts.findLast((part) => part && !part.startsWith("{")) ?? "";
  return last.replaceAll("-", " ");
}

/** Why a query failed, and what to do. */
function why({ state }: Query): string {
  const error: unknown = state.error;
  return error instanceof ProblemError
    ? `${error.problem.detail}. ${error.problem.hint}.`
    : "Something failed in the console.";
}
