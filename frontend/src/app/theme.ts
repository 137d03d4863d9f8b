const KEY = "ecumen-theme";
const ORDER = ["auto", "light", "dark"] as const;
export type Theme = (typeof ORDER)[number];

export function currentTheme(): Theme {
  const stored = localStorage.getItem(KEY);
  return ORDER.find((theme) => theme === stored) ?? "auto";
}

export function applyTheme(theme: Theme = currentTheme()) {
  localStorage.setItem(KEY, theme);
  document.documentElement.dataset.theme = theme;
}

export function nextTheme(theme: Theme): Theme {
  return ORDER[(ORDER.indexOf(theme) + 1) % ORDER.length] ?? "auto";
}
