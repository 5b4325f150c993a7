// Light, dark, or as the system has it.
export type Theme = "system" | "light" | "dark";

const KEY = "doorstone.theme";
const dark = matchMedia("(prefers-color-scheme: dark)");

export function savedTheme(): Theme {
  const found = localStorage.getItem(KEY);
  return found === "light" || found === "dark" ? found : "system";
}

export function applyTheme(theme: Theme): void {
  if (theme === "system") localStorage.removeItem(KEY);
  else localStorage.setItem(KEY, theme);
  const isDark = theme === "dark" || (theme === "system" && dark.matches);
  document.documentElement.dataset.theme = isDark ? "dark" : "light";
}

dark.addEventListener("change", () => applyTheme(savedTheme()));
