import { beforeEach, expect, it } from "vitest";
import { applyTheme, savedTheme } from "./theme";

beforeEach(() => localStorage.clear());

it("keeps a choice, and forgets it when the system decides", () => {
  applyTheme("dark");
  expect([savedTheme(), document.documentElement.dataset.theme]).toEqual(["dark", "dark"]);
  applyTheme("system");
  expect([savedTheme(), document.documentElement.dataset.theme]).toEqual(["system", "light"]);
});

it("takes nothing for a theme that is none", () => {
  localStorage.setItem("doorstone.theme", "mauve");
  expect(savedTheme()).toBe("system");
});
