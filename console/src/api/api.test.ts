import { describe, expect, it } from "vitest";
import { client, formKey, ProblemError, queries } from "./api";

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

describe("the key of a creating call", () => {
  const key = (body: string, path = "/api/v1/exceptions") =>
    formKey(new Request(`http://doorstone.test${path}`, { method: "POST", body }));

  it("is the same for the same content from the same form", async () => {
    expect(await key("a")).toBe(await key("a"));
  });

  it("differs by content, by call and by visit of the form", async () => {
    const first = await key("a");
    expect(await key("b")).not.toBe(first);
    expect(await key("a", "/api/v1/kits")).not.toBe(first);
    history.pushState({ key: "next" }, "");
    expect(await key("a")).not.toBe(first);
    history.replaceState({ key: "next" }, "");
    expect(await key("a")).toBe(await key("a"));
  });
});
