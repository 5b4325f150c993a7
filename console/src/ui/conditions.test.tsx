import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { expect, it } from "vitest";
import { type AskedCondition, ConditionFields } from "./conditions";

function Form({ start = [], tell }: { start?: AskedCondition[]; tell: (now: AskedCondition[]) => void }) {
  const [of, set] = useState(start);
  return (
    <ConditionFields
      of={of}
      set={(next) => {
        set(next);
        tell(next);
      }}
    />
  );
}

it("asks for words and a day, or for a test of facts", async () => {
  let now: AskedCondition[] = [];
  render(<Form tell={(next) => (now = next)} />);
  await userEvent.click(screen.getByRole("button", { name: "Add a condition" }));
  await userEvent.type(screen.getByLabelText("What is to be kept"), "Locked");
  await userEvent.type(screen.getByLabelText("Attested by"), "2027-03-01");
  expect(now).toEqual([{ text: "Locked", fact_condition: null, due_on: "2027-03-01", every_days: null }]);
  await userEvent.selectOptions(screen.getByLabelText("Condition 1, kept when"), "Secure Boot is on");
  expect(now).toEqual([
    { text: "", fact_condition: { fact: "firmware.secure_boot", is: "on" }, due_on: null, every_days: null },
  ]);
  expect(screen.getByText("The readings show whether it is kept.")).toBeTruthy();
  await userEvent.selectOptions(screen.getByLabelText("Condition 1, kept when"), "the disk is encrypted");
  expect(now[0]?.fact_condition).toEqual({ fact: "disk.encrypted", is: true });
});

it("removes the one that is meant", async () => {
  const three = ["a", "b", "c"].map((text) => ({ text, fact_condition: null, due_on: null, every_days: null }));
  let now: AskedCondition[] = [];
  render(<Form start={three} tell={(next) => (now = next)} />);
  await userEvent.click(screen.getByRole("button", { name: /Remove.*2/ }));
  expect(now.map((one) => one.text)).toEqual(["a", "c"]);
});

it("keeps a test that it does not know", () => {
  const odd = { text: "", fact_condition: { fact: "cpu.cores", at_least: 4 }, due_on: null, every_days: null };
  render(<Form start={[odd]} tell={() => undefined} />);
  expect(screen.getByRole<HTMLOptionElement>("option", { selected: true }).textContent).toBe("cpu.cores is as given");
});
