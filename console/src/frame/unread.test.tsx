import { QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, it } from "vitest";
import { type Problem, ProblemError } from "../api/api";
import { ErrorMessage } from "../ui/parts";
import { Unread } from "./unread";

const problem = (detail: string) =>
  new ProblemError({ detail, hint: "Look whether it runs", errors: [] } as unknown as Problem);
const answers: Record<string, unknown> = {};

function List({ path, says = false }: { path: string; says?: boolean }) {
  const found = useQuery({
    queryKey: ["get", path],
    retry: false,
    queryFn: () => {
      if (!(path in answers))
        throw problem(
          path.includes("{device}") ? "It is gone" : path.includes("{number}") ? "You may not" : "No answer",
        );
      return answers[path];
    },
  });
  if (says && found.error) return <ErrorMessage error={found.error} />;
  return <p>{`${path}: ${found.data ?? "nothing"}`}</p>;
}

it("says what a page could not read and does not say itself, and reads it again", async () => {
  render(
    <QueryClientProvider client={new QueryClient()}>
      <Unread />
      <List path="/api/v1/devices/{device}" says />
      <List path="/api/v1/devices/{device}/assessment" />
      <List path="/api/v1/selections" />
      <List path="/api/v1/failure-messages/{number}" />
    </QueryClientProvider>,
  );
  const missing = await screen.findByText("Not all of this page could be read. Missing: selections, failure messages.");
  expect(missing.parentElement?.textContent).toContain(
    "No answer. Look whether it runs.You may not. Look whether it runs.",
  );
  expect(screen.getAllByRole("alert")).toHaveLength(2);
  answers["/api/v1/selections"] = "Palm house slates";
  await userEvent.click(screen.getByRole("button", { name: "Read again" }));
  await screen.findByText("/api/v1/selections: Palm house slates");
  await screen.findByText("Not all of this page could be read. Missing: failure messages.");
  answers["/api/v1/failure-messages/{number}"] = "The chip was not found.";
  await userEvent.click(screen.getByRole("button", { name: "Read again" }));
  await screen.findByText("/api/v1/failure-messages/{number}: The chip was not found.");
  expect(screen.getAllByRole("alert")).toHaveLength(1);
});
