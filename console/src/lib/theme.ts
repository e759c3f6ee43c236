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

// Paper is light, whatever the page is.
window.addEventListener("beforeprint", () => {
  if (document.documentElement.dataset.theme !== "dark") return;
  document.documentElement.dataset.theme = "light";
  window.dispatchEvent(new Event("theme"));
  window.addEventListener("afterprint", () => applyTheme(), { once: true });
});

matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => applyTheme());
