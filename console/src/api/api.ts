// The one way to the service: typed from its OpenAPI document, with problem documents as errors.
import { QueryClient, useMutation } from "@tanstack/react-query";
import createClient, { type Middleware } from "openapi-fetch";
import createHooks from "openapi-react-query";
import type { components, paths } from "./schema";

type Shapes = components["schemas"];
export type Problem = Shapes["Problem"];
export type Session = Shapes["SessionShape"];
export type Platform = Shapes["PlatformShape"];
export type Finding = Shapes["FindingShape"];
export type Leaf = Shapes["LeafShape"];
export type Exception = Shapes["ExceptionShape"];
export type Forecast = Shapes["DeviceForecastShape"];
export type Fixes = Shapes["DeviceFixesShape"];
export type Line = Shapes["LineShape"];
export type Course = Shapes["CourseShape"];
export type SortingRow = Shapes["SortingRowShape"];
export type Import = Shapes["ImportShape"];
export type Impact = Shapes["ImpactShape"];
export type Uncovered = Shapes["UncoveredShape"];
export type DueKind = Shapes["DueKind"];
export type Dispute = Shapes["DisputeShape"];
export type Round = Shapes["FixRoundShape"];
export type Supposed = Shapes["SupposedShape"];
export type Told = Shapes["ToldTextShape"];
export type AccountOf = Shapes["AccountShape"];
export type Person = Shapes["PersonShape"];

/** What the service answered instead of a result. */
export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

const unreadable = (status: number): Problem => ({
  type: "about:blank",
  title: "No answer",
  status,
  detail: "The service did not answer as expected",
  instance: "",
  mend: "Look whether it runs, then try again",
  troubles: [],
});

const throwProblems: Middleware = {
  async onResponse({ response }) {
    if (response.ok) return undefined;
    let problem = unreadable(response.status);
    try {
      problem = { ...problem, ...(await response.clone().json()) };
    } catch {
      // not JSON: keep the words above
    }
    throw new ProblemError(problem);
  },
  onError() {
    return new ProblemError(unreadable(0));
  },
};

export const client = createClient<paths>({ headers: { "X-Doorstone-Console": "1" } });
client.use(throwProblems);
export const api = createHooks(client);

/** The headers of a creating call: a key, so that a second click makes nothing twice. */
export const once = () => ({ "Idempotency-Key": crypto.randomUUID() });

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 10_000,
      retry: (count, error) => count < 2 && !(error instanceof ProblemError && error.problem.status > 0),
    },
  },
});

/** Something sent to the service; when it is done, everything shown is read again. */
export function useSend<Result, Given = void>(
  send: (given: Given) => Promise<Result>,
  done?: (result: Result) => void,
) {
  return useMutation({
    mutationFn: send,
    onSuccess: async (result: Result) => {
      await queries.invalidateQueries();
      done?.(result);
    },
  });
}
