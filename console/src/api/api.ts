// The one way to the service: typed from its OpenAPI document, with problem documents as errors.

import { QueryClient, useMutation } from "@tanstack/react-query";
import createClient, { type Middleware } from "openapi-fetch";
import createHooks from "openapi-react-query";
import { useRef } from "react";
import type { components, paths } from "./schema";

type Shapes = components["schemas"];
export type Problem = Shapes["Problem"];
export type Session = Shapes["SessionResponse"];
export type Platform = Shapes["PlatformResponse"];
export type Finding = Shapes["FindingResponse"];
export type Leaf = Shapes["LeafResponse"];
export type Exception = Shapes["ExceptionResponse"];
export type Forecast = Shapes["DeviceForecastResponse"];
export type Fixes = Shapes["DeviceFixesResponse"];
export type UpgradePath = Shapes["UpgradePathResponse"];
export type Course = Shapes["CourseResponse"];
export type UncoveredBrief = Shapes["UncoveredBrief"];
export type SortingRow = Shapes["SortingRowResponse"];
export type Import = Shapes["ImportResponse"];
export type Impact = Shapes["ImpactResponse"];
export type Uncovered = Shapes["UncoveredResponse"];
export type Unplaced = Shapes["UnplacedResponse"];
export type Life = Shapes["Life"];
export type RecordedRows = Shapes["RecordFileResponse"];
export type RecordKind = RecordedRows["kind"];
export type DueKind = Shapes["DueKind"];
export type SheetTask = Shapes["TaskResponse"];
export type LateCost = Shapes["LateCost"];
export type Dispute = Shapes["DisputeResponse"];
export type FixRound = Shapes["FixRoundResponse"];
export type WhatIf = Shapes["WhatIfResponse"];
export type FailureMessage = Shapes["FailureMessageResponse"];
export type AccountOf = Shapes["AccountResponse"];
export type Person = Shapes["PersonResponse"];

/** How the lives of a device are called. */
export const LIVES: Record<Life, string> = {
  "in-service": "In service",
  "set-aside": "Set aside",
  retired: "Retired",
  replaced: "Replaced",
};

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
  hint: "Look whether it runs, then try again",
  errors: [],
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

const PLACE = "doorstone.in-place-of";

/** The person in whose place one acts in this window; empty for oneself. */
export const inPlaceOf = () => sessionStorage.getItem(PLACE) ?? "";

export const forgetPlace = () => sessionStorage.removeItem(PLACE);

/** Act in somebody's place from now on, or for oneself again; everything shown is read anew. */
export function actFor(person: string) {
  if (person) sessionStorage.setItem(PLACE, person);
  else forgetPlace();
  location.reload();
}

const sayForWhom: Middleware = {
  onRequest({ request }) {
    const person = inPlaceOf();
    if (person) request.headers.set("Doorstone-In-Place-Of", person);
    return request;
  },
};

const BY_FORM = "by-form";
const TAB = "doorstone.tab";

/** What tells this visit of a form from others: the same after going back to it, another one when it is opened anew. */
function formId(): string {
  let tab = sessionStorage.getItem(TAB);
  if (!tab) {
    tab = crypto.randomUUID();
    sessionStorage.setItem(TAB, tab);
  }
  const visit = (history.state as { key?: string } | null)?.key ?? "first";
  return `${tab} ${location.pathname} ${visit}`;
}

/** A key for a creating call: a double click, or the same content sent again from the same form, has the same key. */
export async function formKey(request: Request): Promise<string> {
  const content = new TextEncoder().encode(
    [formId(), request.method, request.url, await request.clone().text()].join("\n"),
  );
  const digest = new Uint8Array(await crypto.subtle.digest("SHA-256", content));
  return [...digest].map((byte) => byte.toString(16).padStart(2, "0")).join("");
}

const keyByForm: Middleware = {
  async onRequest({ request }) {
    if (request.headers.get("Idempotency-Key") === BY_FORM)
      request.headers.set("Idempotency-Key", await formKey(request));
    return request;
  },
};

export const client = createClient<paths>({ headers: { "X-Doorstone-Console": "1" } });
client.use(sayForWhom, keyByForm, throwProblems);
export const api = createHooks(client);

/** The headers of a creating call. Its key is made of the form and its content once the call is sent. */
export const once = () => ({ "Idempotency-Key": BY_FORM });

/** Keys for a form that stays open: a content keeps its key until a call is answered, and may then be sent anew. */
export function useKey() {
  const keys = useRef(new Map<string, string>());
  return {
    headers(content: string) {
      const key = keys.current.get(content) ?? crypto.randomUUID();
      keys.current.set(content, key);
      return { "Idempotency-Key": key };
    },
    renew: () => keys.current.clear(),
  };
}

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
