import { useEffect, useMemo, useRef } from "react";
import uPlot from "uplot";
import { timeLabels } from "../lib/history";
import { alone, css, dragged, inZone, look, mount, ticks } from "../lib/plot";

export interface ManyLines {
  name: string;
  at: number[]; // seconds
  value: (number | null)[];
  // The least and the greatest reading of each step, where they are on the same
  // scale: drawn as a band behind the line, so that no spike is smoothed away.
  min?: (number | null)[];
  max?: (number | null)[];
}

// banded is how many lines have their bands drawn at once; of more only that of
// the picked one.
const banded = 6;

// colours is how many lines have a colour of their own; more are grey.
export const colours = 8;
export const colourOf = (i: number) => (i < colours ? `var(--line-${i + 1})` : "var(--muted)");

const own = (i: number) => css(i < colours ? `--line-${i + 1}` : "--muted");

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
  onZoom?: (from: number, to: number) => void;
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
            lines.map((l) => [l.at, l.max ?? l.value, l.min ?? l.value, l.value]),
            lines.map(() => [0, 2, 2, 2]),
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
            tzDate: inZone,
            legend: { show: false },
            cursor: {
              drag: { x: Boolean(live.current.onZoom), y: false, setScale: false },
              points: { size: 5 },
            },
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
                values: ticks,
                space: 32,
                grid: { stroke: css("--line"), width: 1 },
                ticks: { show: false },
              },
            ],
            series: [
              {},
              ...(lines.length === 0 ? [{}] : lines).flatMap((_, i) => [
                ...(lines.length === 0 ? [] : [{ points: { show: false } }, { points: { show: false } }]),
                {
                  stroke: picked >= 0 && picked !== i ? css("--line") : own(i),
                  width: picked === i ? 2.4 : i < colours ? 1.6 : 1,
                  points: { show: false, filter: alone, size: 6, fill: own(i) },
                },
              ]),
            ],
            bands: lines.flatMap((l, i) =>
              l.min && (picked === i || (picked < 0 && lines.length <= banded))
                ? [
                    {
                      series: [3 * i + 1, 3 * i + 2] as [number, number],
                      fill: `color-mix(in srgb, ${own(i)} 20%, transparent)`,
                    },
                  ]
                : [],
            ),
            hooks: {
              setSelect: [dragged((a, b) => live.current.onZoom?.(a * 1000, b * 1000))],
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
