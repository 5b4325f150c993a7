import { fireEvent, render, screen } from "@testing-library/react";
import { describe, expect, it } from "vitest";
import type { Finding } from "../api/api";
import { MarkBar, ProgressBar, StateBar } from "./bars";
import { isMark, MARKS, Mark, STATE_NAMES, STATES, StateMark } from "./mark";
import { FindingStrip, Strip } from "./strip";

const path = (box: HTMLElement) => box.querySelector("path")?.getAttribute("d");

describe("marks", () => {
  it("differ by shape, not by colour alone", () => {
    const shapes = Object.keys(MARKS).map((mark) => {
      const { container, unmount } = render(<Mark mark={mark} />);
      const drawn = `${path(container)} ${container.querySelector("path")?.getAttribute("stroke-dasharray")}`;
      unmount();
      return drawn;
    });
    expect(new Set(shapes).size).toBe(7);
  });

  it("say their word, also where only the shape is drawn", () => {
    render(<Mark mark="installer-check" words={false} />);
    expect(screen.getByText("installer check").className).toBe("sr-only");
  });

  it("show an unknown one as it is named", () => {
    render(<Mark mark="odd" />);
    expect(screen.getByText("odd")).toBeTruthy();
    expect(isMark("odd")).toBe(false);
  });

  it("stand for states, each with a shape of its own", () => {
    const shapes = STATE_NAMES.map((state) => {
      const { container, unmount } = render(<StateMark state={state} />);
      expect(screen.getByText(STATES[state].words)).toBeTruthy();
      const drawn = path(container);
      unmount();
      return drawn;
    });
    expect(new Set(shapes).size).toBe(6);
  });
});

describe("strips", () => {
  const marks = { memory: "met", storage: "met", chip: "fixable", list: "floor" };

  it("name what is unmet, and draw a path per kind of mark", () => {
    const { container } = render(<Strip marks={marks} />);
    expect(screen.getByRole("img").getAttribute("aria-label")).toBe("chip: fixable, list: floor");
    expect(container.querySelectorAll("path")).toHaveLength(3);
  });

  it("say so when everything is met", () => {
    render(<Strip marks={{ memory: "met" }} />);
    expect(screen.getByRole("img").getAttribute("aria-label")).toBe("every requirement met");
  });

  it("name each stone only while somebody points at it", () => {
    const { container } = render(<Strip marks={marks} />);
    const titles = () => [...container.querySelectorAll("title")].map((one) => one.textContent);
    expect(titles()).toEqual([]);
    fireEvent.pointerEnter(screen.getByRole("img"));
    expect(titles()).toEqual(["memory: met", "storage: met", "chip: fixable", "list: floor"]);
    fireEvent.pointerLeave(screen.getByRole("img"));
    expect(titles()).toEqual([]);
  });

  it("stand a measured level against the sill, and link to the finding", () => {
    const finding = (id: string, mark: string, level: number | null) =>
      ({ requirement: { id }, mark, leaves: [{ level }] }) as unknown as Finding;
    const { container } = render(
      <FindingStrip findings={[finding("memory", "installer-check", 0.5), finding("chip", "met", null)]} />,
    );
    expect(screen.getAllByRole("link").map((one) => one.getAttribute("href"))).toEqual(["#memory", "#chip"]);
    const [half] = container.querySelectorAll("rect");
    expect([half?.getAttribute("y"), half?.getAttribute("height")]).toEqual(["62", "22"]); // half of 84 - 40
    const sills = [...container.querySelectorAll("path")].filter((one) => one.getAttribute("d") === "M2 40h60");
    expect(sills.map((one) => one.getAttribute("stroke-dasharray"))).toEqual(["5 3"]);
  });
});

describe("bars", () => {
  it("share their width by count, in the order of the marks", () => {
    const { container } = render(<MarkBar marks={{ floor: 1, met: 3 }} />);
    expect(screen.getByRole("img").getAttribute("aria-label")).toBe("3 met, 1 floor");
    const parts = [...container.querySelectorAll("rect")];
    expect(parts.map((one) => [one.getAttribute("x"), one.getAttribute("width")])).toEqual([
      ["0", "149"],
      ["150", "49"],
    ]);
  });

  it("name states by their own words, the excepted before those that need an exception", () => {
    render(<StateBar states={{ "needs-exception": 2, excepted: 1, clear: 4 }} />);
    expect(screen.getByRole("img").getAttribute("aria-label")).toBe("4 clear, 1 excepted, 2 needs an exception");
  });

  it("draw nothing of nothing", () => {
    const { container } = render(<MarkBar marks={{}} />);
    expect(container.querySelectorAll("rect")).toHaveLength(0);
  });

  it("say how far something has come, and never more than all", () => {
    const { rerender } = render(<ProgressBar label="Checked" now={1} of={3} />);
    expect(screen.getByText("Checked: 33 %")).toBeTruthy();
    rerender(<ProgressBar label="Checked" now={9} of={3} />);
    expect(screen.getByText("Checked: 100 %")).toBeTruthy();
    rerender(<ProgressBar label="Checked" now={0} of={0} />);
    expect(screen.getByText("Checked: 0 %")).toBeTruthy();
  });
});
