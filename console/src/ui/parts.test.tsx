import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { BrowserRouter, MemoryRouter } from "react-router";
import { describe, expect, it, vi } from "vitest";
import { ProblemError } from "../api/api";
import {
  Button,
  CheckboxField,
  Choice,
  count,
  day,
  ErrorMessage,
  Heading,
  keep,
  Labelled,
  Loaded,
  More,
  PageLink,
  useParam,
} from "./parts";

const refused = new ProblemError({
  type: "urn:door-stone:problem:refused",
  title: "Refused by a rule",
  status: 409,
  detail: "The request cannot be made",
  instance: "",
  hint: "Leave the device out",
  errors: [{ pointer: "nbt-030, instruction-level", detail: "It is a floor", hint: "Replace the device" }],
});

describe("days and counts", () => {
  it("writes a day as people read it", () => {
    expect(day("2027-01-18")).toBe("18 Jan 2027");
    expect(day("2027-09-30T23:59:59")).toBe("30 Sept 2027");
    expect([day(null), day(undefined), day("")]).toEqual(["–", "–", "–"]);
  });

  it("counts one thing and many", () => {
    expect([count(0, "device"), count(1, "device"), count(12345, "device")]).toEqual([
      "0 devices",
      "1 device",
      "12,345 devices",
    ]);
  });
});

function Two() {
  const [state, setState] = useParam("state");
  const [site, setSite] = useParam("site", "all");
  return (
    <>
      <p>{`${state}|${site}`}</p>
      <button type="button" onClick={() => [setState("clear"), setSite("Herbarium")]}>
        Both
      </button>
      <button type="button" onClick={() => setSite("all")}>
        Back
      </button>
    </>
  );
}

describe("addresses", () => {
  it("keep platform and release, and nothing else", () => {
    const params = new URLSearchParams("platform=tarn&release=9.2&state=clear");
    expect(keep("/devices", params)).toBe("/devices?platform=tarn&release=9.2");
    expect(keep("/devices?release=9.1", params)).toBe("/devices?release=9.1&platform=tarn");
    expect(keep("/me", new URLSearchParams())).toBe("/me");
  });

  it("stand in links", () => {
    render(
      <MemoryRouter initialEntries={["/?release=9.2"]}>
        <PageLink to="/due">Due</PageLink>
      </MemoryRouter>,
    );
    expect(screen.getByRole("link", { name: "Due" }).getAttribute("href")).toBe("/due?release=9.2");
  });

  it("hold what was chosen, and lose what is the fallback", async () => {
    render(
      <BrowserRouter>
        <Two />
      </BrowserRouter>,
    );
    expect(screen.getByText("|all")).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Both" }));
    expect(screen.getByText("clear|Herbarium")).toBeTruthy();
    expect(window.location.search).toBe("?state=clear&site=Herbarium");
    await userEvent.click(screen.getByRole("button", { name: "Back" }));
    expect(window.location.search).toBe("?state=clear");
  });
});

describe("states of a query", () => {
  const shown = (of: { data: string | undefined; error: unknown }) =>
    render(
      <Loaded of={of} what="devices">
        {(data) => <p>{data}</p>}
      </Loaded>,
    );

  it("is read", () => {
    shown({ data: undefined, error: null });
    expect(screen.getByRole("status").textContent).toBe("Reading devices…");
  });

  it("is there", () => {
    shown({ data: "180 devices", error: null });
    expect(screen.getByText("180 devices")).toBeTruthy();
    expect(screen.queryByRole("status")).toBeNull();
  });

  it("failed, with every place and the way out", () => {
    shown({ data: undefined, error: refused });
    const words = screen.getByRole("alert").textContent;
    expect(words).toContain("The request cannot be made");
    expect(words).toContain("nbt-030, instruction-level: It is a floor. Replace the device.");
    expect(words).toContain("Leave the device out.");
  });

  it("failed in the service: it can be read again", async () => {
    const refetch = vi.fn();
    const stopped = new ProblemError({ ...refused.problem, status: 503 });
    const of = (error: unknown) => (
      <Loaded of={{ data: undefined, error, refetch }} what="devices">
        {() => null}
      </Loaded>
    );
    const { rerender } = render(of(stopped));
    await userEvent.click(screen.getByRole("button", { name: "Read again" }));
    expect(refetch).toHaveBeenCalledOnce();
    rerender(of(refused));
    expect(screen.queryByRole("button")).toBeNull();
  });

  it("failed to be read again: what was read stays", () => {
    shown({ data: "180 devices", error: refused });
    expect(screen.getByRole("alert").textContent).toContain("The request cannot be made");
    expect(screen.getByText("180 devices")).toBeTruthy();
  });

  it("failed to give its next page: the reason stands by the button alone", async () => {
    const read = vi.fn();
    const of = { data: "180 devices", error: refused, hasNextPage: true, isFetchingNextPage: false };
    const pages = { ...of, isFetchNextPageError: true, fetchNextPage: read };
    render(
      <Loaded of={pages} what="devices">
        {(data) => (
          <>
            <p>{data}</p>
            <More of={pages}>More devices</More>
          </>
        )}
      </Loaded>,
    );
    expect(screen.getByText("180 devices")).toBeTruthy();
    expect(screen.getAllByRole("alert")).toHaveLength(1);
    await userEvent.click(screen.getByRole("button", { name: "More devices" }));
    expect(read).toHaveBeenCalledOnce();
  });

  it("failed in the console itself", () => {
    render(<ErrorMessage error={new TypeError("x is undefined")} />);
    expect(screen.getByRole("alert").textContent).toBe("Something failed in the console.");
  });
});

describe("controls", () => {
  it("choose a value, or any", async () => {
    const set = vi.fn();
    const pairs = [
      ["clear", "clear"],
      ["floored", "floored"],
    ] as const;
    const { rerender } = render(<Choice label="State" value="" set={set} of={pairs} />);
    await userEvent.selectOptions(screen.getByLabelText("State"), "floored");
    expect(set).toHaveBeenCalledWith("floored");
    expect(screen.getAllByRole("option").map((one) => one.textContent)).toEqual(["any", "clear", "floored"]);
    rerender(<Choice label="State" value="clear" set={set} of={pairs} needed disabled />);
    expect(screen.getAllByRole("option")).toHaveLength(2);
    expect(screen.getByLabelText<HTMLSelectElement>("State").disabled).toBe(true);
  });

  it("tick and untick", async () => {
    const set = vi.fn();
    render(<CheckboxField label="Encrypted" checked={true} set={set} />);
    await userEvent.click(screen.getByLabelText("Encrypted"));
    expect(set).toHaveBeenCalledWith(false);
  });

  it("do nothing while they are disabled, and submit nothing unless told to", async () => {
    const act = vi.fn();
    const submit = vi.fn((event: React.FormEvent) => event.preventDefault());
    render(
      <form onSubmit={submit}>
        <Button disabled onClick={act}>
          Approve
        </Button>
        <Button>Look</Button>
        <Button type="submit">Send</Button>
      </form>,
    );
    await userEvent.click(screen.getByRole("button", { name: "Approve" }));
    await userEvent.click(screen.getByRole("button", { name: "Look" }));
    expect([act.mock.calls.length, submit.mock.calls.length]).toEqual([0, 0]);
    await userEvent.click(screen.getByRole("button", { name: "Send" }));
    expect(submit).toHaveBeenCalledTimes(1);
  });

  it("carry their label and hint", () => {
    render(
      <Labelled label="Expiry" hint="365 days at most">
        <input type="date" />
      </Labelled>,
    );
    expect(screen.getByLabelText(/Expiry/)).toBeTruthy();
    expect(screen.getByText("365 days at most")).toBeTruthy();
  });

  it("title the page", () => {
    render(<Heading title="Due">Nothing today.</Heading>);
    expect(screen.getByRole("heading", { level: 1 }).textContent).toBe("Due");
    expect(document.title).toBe("Due · Door Stone");
  });
});
