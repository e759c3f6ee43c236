import { useEffect, useRef } from "react";
import { useLocation, useNavigationType } from "react-router";

// places are where somebody was on each page of the history: the link that had
// the focus, and how far the page was scrolled.
const places = new Map<string, { href?: string; top: number }>();

// useReturn brings the focus and the page back to where they were when somebody
// goes back, and puts the focus at the beginning of a page that is new.
export function useReturn() {
  const location = useLocation();
  const how = useNavigationType();
  const first = useRef(true);
  const key = location.key;
  const page = location.pathname;
  useEffect(() => {
    const note = () => {
      const a = document.activeElement?.closest("a");
      places.set(key, { href: a?.getAttribute("href") ?? undefined, top: window.scrollY });
    };
    window.addEventListener("scrollend", note);
    document.addEventListener("focusin", note);
    // What is pressed may lead away before it has the focus.
    document.addEventListener("click", note, true);
    return () => {
      window.removeEventListener("scrollend", note);
      document.removeEventListener("focusin", note);
      document.removeEventListener("click", note, true);
    };
  }, [key]);
  useEffect(() => {
    if (first.current) {
      first.current = false;
      return;
    }
    const was = how === "POP" ? places.get(key) : undefined;
    let tries = 0;
    let timer = 0;
    const settle = () => {
      const link = was?.href && document.querySelector<HTMLElement>(`main a[href="${CSS.escape(was.href)}"]`);
      // The list may still be on its way.
      if (was?.href && !link && tries++ < 20) {
        timer = window.setTimeout(settle, 50);
        return;
      }
      window.scrollTo(0, was?.top ?? 0);
      const lost = document.activeElement === document.body || !document.activeElement?.isConnected;
      if (link) link.focus({ preventScroll: true });
      else if (lost) document.getElementById("main")?.focus({ preventScroll: true });
    };
    timer = window.setTimeout(settle, 0);
    return () => window.clearTimeout(timer);
    // Only another page counts; a filter that changes the address does not.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [page]);
}
