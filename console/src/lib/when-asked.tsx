import { createElement, useEffect, useState, type ComponentType, type ReactNode } from "react";

// whenAsked is a component whose code is loaded when it is drawn first; begin loads it before that.
// React's own way, lazy in Suspense, holds back for 300 ms what comes after its fallback, which is
// longer than the whole rest takes.
export function whenAsked<P extends object>(
  load: () => Promise<{ default: ComponentType<P> }>,
  waiting: ReactNode = null,
) {
  let code: ComponentType<P> | undefined;
  let coming: Promise<void> | undefined;
  const begin = () => {
    coming ??= load().then(
      (m) => {
        code = m.default;
      },
      (e: unknown) => {
        coming = undefined; // it is tried again when it is drawn again
        throw e;
      },
    );
    return coming;
  };
  function WhenAsked(props: P) {
    const [, setCame] = useState(code !== undefined);
    const [error, setError] = useState<unknown>();
    useEffect(() => {
      if (code) return;
      let drawn = true;
      begin().then(
        () => drawn && setCame(true),
        (e: unknown) => drawn && setError(e),
      );
      return () => {
        drawn = false;
      };
    }, []);
    if (error !== undefined) throw error;
    return code ? createElement(code, props) : waiting;
  }
  return Object.assign(WhenAsked, { begin });
}
