// Day or night, by choice or as the system has it. Kept in this browser.

export type Theme = "system" | "day" | "night";

export function theme(): Theme {
  const kept = localStorage.getItem("theme");
  return kept === "day" || kept === "night" ? kept : "system";
}

export function setTheme(next: Theme): void {
  if (next === "system") {
    localStorage.removeItem("theme");
    delete document.documentElement.dataset.theme;
  } else {
    localStorage.setItem("theme", next);
    document.documentElement.dataset.theme = next;
  }
}
