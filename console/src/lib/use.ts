import { useCallback, useEffect, useState } from "react";
import { useSearchParams } from "react-router";

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

export function useTitle(title: string) {
  useEffect(() => {
    document.title = `${title} · Ullage`;
  }, [title]);
}
