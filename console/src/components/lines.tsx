import { useEffect, useMemo, useRef } from "react";
import uPlot from "uplot";
import { timeLabels } from "../lib/history";

export interface ManyLines {
  name: string;
  at: number[]; // seconds
  value: (number | null)[];
}

const css = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();

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
  useEffect(() => {
    const make = () => {
      plot.current?.destroy();
      const muted = css("--muted");
      const font = `${0.75 * parseFloat(getComputedStyle(document.documentElement).fontSize)}px ${css("--font-sans") || "sans-serif"}`;
      plot.current = new uPlot(
        {
          width: holder.current!.clientWidth,
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
            setSelect: [
              (u) => {
                const { left, width } = u.select;
                u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
                if (width > 6)
                  live.current.onZoom(u.posToVal(left, "x") * 1000, u.posToVal(left + width, "x") * 1000);
              },
            ],
          },
        },
        columns,
        holder.current!,
      );
    };
    make();
    const resized = new ResizeObserver(() =>
      plot.current?.setSize({ width: holder.current!.clientWidth, height }),
    );
    resized.observe(holder.current!);
    window.addEventListener("theme", make);
    return () => {
      window.removeEventListener("theme", make);
      resized.disconnect();
      plot.current?.destroy();
    };
  }, [columns, lines, height, picked]);
  return (
    <figure className="m-0 min-w-0">
      <div ref={holder} aria-hidden="true" />
      <figcaption className="sr-only">{summary}</figcaption>
    </figure>
  );
}
