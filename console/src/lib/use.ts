import { useCallback, useEffect, useState, useSyncExternalStore } from "react";
import { useNavigationType, useSearchParams } from "react-router";

// useNow gives the time and draws again every so often.
export function useNow(every = 1000): number {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    const t = window.setInterval(() => setNow(Date.now()), every);
    return () => window.clearInterval(t);
  }, [every]);
  return now;
}

// useParam keeps a choice in the URL, so that a link carries it.
export function useParam(name: string, fallback: string): [string, (v: string) => void] {
  const [params, setParams] = useSearchParams();
  const set = useCallback(
    (v: string) =>
      setParams(
        (p) => {
          const next = new URLSearchParams(p);
          if (v === fallback) next.delete(name);
          else next.set(name, v);
          return next;
        },
        { replace: true },
      ),
    [setParams, name, fallback],
  );
  return [params.get(name) ?? fallback, set];
}

// useTyped is useParam for a field that is typed in: what is typed shows at
// once, and the URL follows.
export function useTyped(name: string): [string, (v: string) => void] {
  const [param, setParam] = useParam(name, "");
  const how = useNavigationType();
  const [typed, setTyped] = useState(param);
  const [seen, setSeen] = useState(param);
  // The URL was changed by something else, such as the way back.
  if (param !== seen) {
    setSeen(param);
    if (how === "POP") setTyped(param);
  }
  const set = useCallback(
    (v: string) => {
      setTyped(v);
      setParam(v);
    },
    [setParam],
  );
  return [typed, set];
}

// useNarrow tells whether the screen is that of a phone.
export function useNarrow(): boolean {
  return useSyncExternalStore(
    (changed) => {
      const m = window.matchMedia("(width < 40rem)");
      m.addEventListener("change", changed);
      return () => m.removeEventListener("change", changed);
    },
    () => window.matchMedia("(width < 40rem)").matches,
  );
}

export function useTitle(title: string) {
  useEffect(() => {
    document.title = `${title} · Ullage`;
  }, [title]);
}

// useDelayed is a value that has stayed the same for some ms: what is asked while
// somebody types.
export function useDelayed<T>(value: T, ms: number): T {
  const [kept, setKept] = useState(value);
  useEffect(() => {
    const timer = window.setTimeout(() => setKept(value), ms);
    return () => window.clearTimeout(timer);
  }, [value, ms]);
  return kept;
}
