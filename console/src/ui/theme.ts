import { useSyncExternalStore } from "react";

type Theme = "light" | "dark";
const key = "theme";
const listeners = new Set<() => void>();

function current(): Theme {
  const kept = localStorage.getItem(key);
  if (kept === "light" || kept === "dark") return kept;
  return matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light";
}

function apply() {
  document.documentElement.dataset["theme"] = current();
  listeners.forEach((tell) => tell());
}

/** Puts the chosen theme, or the system's, in force. */
export function startTheme() {
  apply();
  matchMedia("(prefers-color-scheme: dark)").addEventListener("change", apply);
}

export function useTheme(): { theme: Theme; toggle: () => void } {
  const theme = useSyncExternalStore((tell) => {
    listeners.add(tell);
    return () => listeners.delete(tell);
  }, current);
  return {
    theme,
    toggle: () => {
      localStorage.setItem(key, theme === "dark" ? "light" : "dark");
      apply();
    },
  };
}
