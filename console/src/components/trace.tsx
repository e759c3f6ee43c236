import { useEffect, useMemo, useRef } from "react";
import uPlot from "uplot";

export interface TraceData {
  // times in seconds since 1970, with a hole (null) where there is a gap
  at: number[];
  mean: (number | null)[];
  min: (number | null)[];
  max: (number | null)[];
}

interface Limit {
  value: number;
  upward: boolean;
  name: string;
}

interface Props {
  data: TraceData;
  from: number;
  to: number;
  height: number;
  limits: Limit[];
  decimals: number;
  unit: string;
  summary: string;
  syncKey?: string;
  step?: boolean;
}

const css = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();

// Trace is the one wrapper round the chart library: a line of means in a band
// of least and greatest values, with the limit drawn in.
export function Trace({ data, from, to, height, limits, decimals, unit, summary, syncKey, step }: Props) {
  const holder = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(undefined);
  const live = useRef({ limits, from, to, decimals });
  useEffect(() => {
    live.current = { limits, from, to, decimals };
  });
  const columns = useMemo<uPlot.AlignedData>(() => [data.at, data.min, data.max, data.mean], [data]);
  const first = useRef(columns);

  useEffect(() => {
    const make = () => {
      plot.current?.destroy();
      const line = css("--line");
      const muted = css("--muted");
      const font = `${0.75 * parseFloat(getComputedStyle(document.documentElement).fontSize)}px ${css("--font-sans") || "sans-serif"}`;
      plot.current = new uPlot(
        {
          width: holder.current!.clientWidth,
          height,
          cursor: {
            sync: syncKey ? { key: syncKey } : undefined,
            drag: { x: false, y: false },
            points: { size: 5 },
          },
          legend: { show: false },
          scales: {
            x: { time: true, range: () => [live.current.from, live.current.to] },
            y: {
              range: (_u, low, high) => {
                if (step) return [-0.25, 1.25];
                // A limit is drawn in when it is near; far away it would flatten the line.
                const span = Math.max(high - low, 1e-9);
                const near = live.current.limits
                  .map((l) => l.value)
                  .filter((l) => l > low - 2.5 * span && l < high + 2.5 * span);
                low = Math.min(low, ...near);
                high = Math.max(high, ...near);
                const least = 10 ** -Math.max(live.current.decimals, 0) * 4;
                const pad = Math.max((high - low) * 0.12, least / 2);
                return [low - pad, high + pad];
              },
            },
          },
          axes: [
            {
              stroke: muted,
              font,
              grid: { stroke: line, width: 1 },
              ticks: { show: false },
              size: 20,
              space: 90,
              values: timeLabels,
            },
            {
              stroke: muted,
              font,
              size: 46,
              space: 26,
              grid: { show: false },
              ticks: { show: false },
              values: (_u, vs) =>
                step
                  ? vs.map((v) => (v === 0 ? "no" : v === 1 ? "yes" : ""))
                  : vs.map((v) => String(Math.round(v * 1e4) / 1e4)),
              ...(step ? { splits: () => [0, 1] } : {}),
            },
          ],
          series: [
            {},
            { stroke: "transparent", points: { show: false } },
            { stroke: "transparent", points: { show: false } },
            {
              stroke: css("--series"),
              width: 1.6,
              points: { show: false },
              paths: step ? uPlot.paths.stepped!({ align: 1 }) : undefined,
            },
          ],
          bands: [{ series: [2, 1], fill: css("--band") }],
          hooks: { draw: [(u) => live.current.limits.forEach((l) => drawLimit(u, l, font, muted))] },
        },
        first.current,
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
  }, [height, syncKey, step]);

  useEffect(() => {
    first.current = columns;
    plot.current?.setData(columns);
  }, [columns, from, to, limits]);

  return (
    <figure className="m-0 min-w-0">
      <div ref={holder} aria-hidden="true" />
      <figcaption className="sr-only">
        {summary}
        {unit && ` Values in ${unit}.`}
      </figcaption>
    </figure>
  );
}

const pad = (n: number) => String(n).padStart(2, "0");
const days = ["Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"];

function timeLabels(_u: uPlot, splits: number[]) {
  return splits.map((s) => {
    const d = new Date(s * 1000);
    const time = `${pad(d.getHours())}:${pad(d.getMinutes())}`;
    return time === "00:00" ? `${days[d.getDay()]} ${d.getDate()}` : time;
  });
}

function drawLimit(u: uPlot, limit: Limit, font: string, colour: string) {
  const { ctx, bbox } = u;
  const y = u.valToPos(limit.value, "y", true);
  if (y < bbox.top - 1 || y > bbox.top + bbox.height + 1) return;
  ctx.save();
  ctx.fillStyle = css("--band");
  if (limit.upward) ctx.fillRect(bbox.left, bbox.top, bbox.width, y - bbox.top);
  else ctx.fillRect(bbox.left, y, bbox.width, bbox.top + bbox.height - y);
  ctx.strokeStyle = colour;
  ctx.setLineDash([3 * devicePixelRatio, 3 * devicePixelRatio]);
  ctx.lineWidth = 1.2 * devicePixelRatio;
  ctx.beginPath();
  ctx.moveTo(bbox.left, y);
  ctx.lineTo(bbox.left + bbox.width, y);
  ctx.stroke();
  ctx.fillStyle = colour;
  ctx.font = font.replace(/^[\d.]+px/, (px) => `${parseFloat(px) * devicePixelRatio}px`);
  ctx.textAlign = "left";
  const above = y - bbox.top > 16 * devicePixelRatio;
  ctx.textBaseline = above ? "bottom" : "top";
  ctx.fillText(limit.name, bbox.left + 4 * devicePixelRatio, y + (above ? -2 : 3) * devicePixelRatio);
  ctx.restore();
}
