// What a browser has and jsdom lacks, and a clean page after each test.
import { cleanup } from "@testing-library/react";
import { afterEach, vi } from "vitest";

window.matchMedia ??= (query: string) =>
  ({ matches: false, media: query, addEventListener: vi.fn(), removeEventListener: vi.fn() }) as never;

afterEach(() => {
  cleanup();
  window.history.replaceState(null, "", "/");
  localStorage.clear();
});
