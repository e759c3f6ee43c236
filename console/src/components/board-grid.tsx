import type { KeyboardEvent, ReactNode } from "react";
import GridLayout, { noCompactor, useContainerWidth, type Layout } from "react-grid-layout";
import "react-grid-layout/css/styles.css";
import type { Instrument } from "../api/client";

const rowHeight = 40;
const gap = 16;

// BoardGrid is the one wrapper round the grid library: while a board is changed its
// instruments are dragged and resized by their frames, or moved with the arrow keys and
// resized with Shift and the arrow keys.
export default function BoardGrid({
  instruments,
  draw,
  onPlaces,
  picked,
  onPick,
}: {
  instruments: readonly Instrument[];
  draw: (x: Instrument, i: number) => ReactNode;
  onPlaces: (places: number[][]) => void;
  picked: number;
  onPick: (i: number) => void;
}) {
  const { width, containerRef, mounted } = useContainerWidth();
  const places = instruments.map((x) => x.place);
  const moved = (layout: Layout) => {
    const next = places.map((p, i) => {
      const l = layout.find((o) => o.i === String(i));
      return l ? [l.x, l.y, l.w, l.h] : p;
    });
    if (JSON.stringify(next) !== JSON.stringify(places)) onPlaces(next);
  };
  const keys = (e: KeyboardEvent, i: number) => {
    const step = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[e.key];
    if (!step || e.target !== e.currentTarget) return;
    e.preventDefault();
    const [x, y, w, h] = places[i];
    const next = e.shiftKey ? [x, y, w + step[0], h + step[1]] : [x + step[0], y + step[1], w, h];
    if (next[0] < 0 || next[1] < 0 || next[2] < 1 || next[3] < 1 || next[0] + next[2] > 12 || next[3] > 40)
      return;
    onPlaces(pushed(places.with(i, next), i));
  };
  return (
    <div ref={containerRef as React.RefObject<HTMLDivElement>}>
      {mounted && (
        <GridLayout
          width={width}
          layout={places.map(([x, y, w, h], i) => ({ i: String(i), x, y, w, h }))}
          gridConfig={{ cols: 12, rowHeight, margin: [gap, gap], containerPadding: [0, 0] }}
          dragConfig={{ enabled: true, cancel: "a,button,input,select,textarea,.touch-none" }}
          resizeConfig={{ enabled: true }}
          compactor={noCompactor}
          onDragStop={moved}
          onResizeStop={moved}
        >
          {instruments.map((x, i) => (
            <div
              key={String(i)}
              tabIndex={0}
              role="group"
              aria-label={`${x.title || x.instrument}: arrow keys move it, with Shift they resize it`}
              onKeyDown={(e) => keys(e, i)}
              onFocus={() => onPick(i)}
              onClick={() => onPick(i)}
              className={`overflow-hidden bg-surface px-2 ${picked === i ? "outline-2 outline-press" : "outline-1 outline-line"}`}
            >
              {draw(x, i)}
            </div>
          ))}
        </GridLayout>
      )}
    </div>
  );
}

// pushed moves down what the one that was moved stands on.
export function pushed(places: number[][], moved: number): number[][] {
  const out = places.map((p) => [...p]);
  const over = (a: number[], b: number[]) =>
    a[0] < b[0] + b[2] && b[0] < a[0] + a[2] && a[1] < b[1] + b[3] && b[1] < a[1] + a[3];
  const settled = [moved];
  const rest = out
    .map((_, i) => i)
    .filter((i) => i !== moved)
    .sort((a, b) => out[a][1] - out[b][1]);
  for (const i of rest) {
    for (;;) {
      const under = settled.find((s) => over(out[s], out[i]));
      if (under === undefined) break;
      out[i][1] = out[under][1] + out[under][3];
    }
    settled.push(i);
  }
  return out;
}
