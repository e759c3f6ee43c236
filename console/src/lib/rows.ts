import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef, type KeyboardEvent } from "react";

// useRows draws a table of any length: a short one whole, a long one only where
// it is looked at. Arrows, Home and End go from row to row; a row says which it
// is by data-index, and its first link takes the focus.
export function useRows(count: number, height: number) {
  const box = useRef<HTMLDivElement>(null);
  // eslint-disable-next-line react-hooks/incompatible-library -- nothing of it is memoized
  const virtual = useVirtualizer({
    count,
    getScrollElement: () => box.current,
    estimateSize: () => height,
    overscan: 12,
  });
  const long = count > 200;
  const items = long ? virtual.getVirtualItems() : [];
  const keys = (e: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1, Home: -Infinity, End: Infinity }[e.key];
    const row = (e.target as HTMLElement).closest("tr[data-index]");
    if (step === undefined || !row) return;
    e.preventDefault();
    const next = Math.min(Math.max(Number(row.getAttribute("data-index")) + step, 0), count - 1);
    if (long) virtual.scrollToIndex(next);
    window.requestAnimationFrame(() =>
      box.current?.querySelector<HTMLElement>(`tr[data-index="${next}"] a`)?.focus(),
    );
  };
  return {
    box,
    long,
    keys,
    drawn: long ? items.map((i) => i.index) : Array.from({ length: count }, (_, i) => i),
    before: items[0]?.start ?? 0, // room for what is not drawn
    after: long ? virtual.getTotalSize() - (items.at(-1)?.end ?? 0) : 0,
  };
}
