import { describe, expect, it } from "vitest";
import { client, once, ProblemError, queries } from "./api";

type Make = () => Response | Promise<Response>;
const ask = (make: Make) =>
  client.GET("/api/v1/session", { baseUrl: "http://doorstone.test", fetch: async () => make() });
const caught = async (make: Make) => {
  const error = await ask(make).then(
    () => undefined,
    (reason: unknown) => reason,
  );
  expect(error).toBeInstanceOf(ProblemError);
  return (error as ProblemError).problem;
};

describe("what the service answers", () => {
  it("is data when all is well", async () => {
    expect((await ask(() => Response.json({ name: "petra" }))).data).toEqual({ name: "petra" });
  });

  it("is a problem with its words and places", async () => {
    const errors = [{ pointer: "line 2", detail: "It is cut off", hint: "Send it whole" }];
    expect(
      await caught(() => Response.json({ detail: "Not read", hint: "Correct it", errors }, { status: 422 })),
    ).toMatchObject({ status: 422, detail: "Not read", errors });
  });

  it("is in words even when it is no problem document", async () => {
    expect(await caught(() => new Response("<html>bad gateway</html>", { status: 502 }))).toMatchObject({
      status: 502,
      detail: "The service did not answer as expected",
    });
  });

  it("is in words when nothing answers", async () => {
    expect(await caught(() => Promise.reject(new TypeError("failed")))).toMatchObject({
      status: 0,
      hint: "Look whether it runs, then try again",
    });
  });
});

it("tries a read again only if nothing answered", () => {
  const retry = queries.getDefaultOptions().queries?.retry as (count: number, error: unknown) => boolean;
  const with_status = (status: number) => new ProblemError({ status, detail: "" } as never);
  expect([retry(0, with_status(404)), retry(0, with_status(0)), retry(2, with_status(0))]).toEqual([
    false,
    true,
    false,
  ]);
});

it("gives each click a key of its own", () => {
  expect(once()["Idempotency-Key"]).not.toBe(once()["Idempotency-Key"]);
});
