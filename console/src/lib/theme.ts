const key = "ullage-theme";
export type Theme = "system" | "light" | "dark";

export function theme(): Theme {
  return (localStorage.getItem(key) as Theme | null) ?? "system";
}

export function applyTheme(t: Theme = theme()) {
  if (t === "system") localStorage.removeItem(key);
  else localStorage.setItem(key, t);
  const dark = t === "dark" || (t === "system" && matchMedia("(prefers-color-scheme: dark)").matches);
  document.documentElement.dataset.theme = dark ? "dark" : "light";
  window.dispatchEvent(new Event("theme"));
}

matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => applyTheme());
