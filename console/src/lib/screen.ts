import { useQuery } from "@tanstack/react-query";
import { meQuery } from "./me";

const key = "ullage-screen";

// setScreen notes that this browser is a screen, so that one that is not let in any
// more is asked for a code, and nobody for a password.
export function setScreen(on: boolean) {
  if (on) localStorage.setItem(key, "yes");
  else localStorage.removeItem(key);
}

export const wasScreen = () => localStorage.getItem(key) !== null;

// useScreen tells whether this is a screen, which shows its page and can choose nothing.
export function useScreen(): boolean {
  return Boolean(useQuery(meQuery).data?.screen);
}
