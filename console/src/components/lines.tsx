import { useEffect, useMemo, useRef } from "react";
import uPlot from "uplot";
import { timeLabels } from "../lib/history";
import { css, dragged, look, mount } from "../lib/plot";

export interface ManyLines {
  name: string;
  at: number[]; // seconds
  value: (number | null)[];
}

// colours is how many lines have a colour of their own; more are grey.
export const colours = 8;
export const colourOf = (i: number) => (i < colours ? `var(--line-${i + 1})` : "var(--muted)");

// Lines draws several lines on one pair of axes, one of them picked out.
export function Lines({
  lines,
  from,
  to,
  height,
  picked,
  summary,
  onZoom,
}: {
  lines: ManyLines[];
  from: number;
  to: number;
  height: number;
  picked: number;
  summary: string;
  onZoom: (from: number, to: number) => void;
}) {
  const holder = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(undefined);
  const live = useRef({ from, to, onZoom });
  useEffect(() => {
    live.current = { from, to, onZoom };
  });
  const columns = useMemo<uPlot.AlignedData>(
    () =>
      lines.length === 0
        ? [[], []]
        : uPlot.join(
            lines.map((l) => [l.at, l.value]),
            lines.map(() => [0, 2]),
          ),
    [lines],
  );
  useEffect(
    () =>
      mount(holder.current!, plot, height, (width) => {
        const { muted, font } = look();
        return new uPlot(
          {
            width,
            height,
            legend: { show: false },
            cursor: { drag: { x: true, y: false, setScale: false }, points: { size: 5 } },
            scales: { x: { time: true, range: () => [live.current.from / 1000, live.current.to / 1000] } },
            axes: [
              {
                stroke: muted,
                font,
                grid: { stroke: css("--line"), width: 1 },
                ticks: { show: false },
                size: 24,
                values: timeLabels,
                space: 90,
              },
              {
                stroke: muted,
                font,
                size: 54,
                space: 32,
                grid: { stroke: css("--line"), width: 1 },
                ticks: { show: false },
              },
            ],
            series: [
              {},
              ...(lines.length === 0 ? [{}] : lines).map((_, i) => ({
                stroke:
                  picked >= 0 && picked !== i
                    ? css("--line")
                    : css(i < colours ? `--line-${i + 1}` : "--muted"),
                width: picked === i ? 2.4 : i < colours ? 1.6 : 1,
                points: { show: false },
              })),
            ],
            hooks: {
              setSelect: [dragged((a, b) => live.current.onZoom(a * 1000, b * 1000))],
            },
          },
          columns,
          holder.current!,
        );
      }),
    [columns, lines, height, picked],
  );
  return (
    <figure className="m-0 min-w-0">
      <div ref={holder} aria-hidden="true" />
      <figcaption className="sr-only">{summary}</figcaption>
    </figure>
  );
}
