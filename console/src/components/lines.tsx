import { useEffect, useMemo, useRef } from "react";
import uPlot from "uplot";
import { page } from "../lib/crosshair";
import { timeLabels } from "../lib/history";
import { alone, axes, css, dot, dragged, inZone, label, look, mount, ticks } from "../lib/plot";
import { grown } from "../lib/size";
import { drawAlarm, presses, type AlarmSpan, type TracePoint } from "./trace";

export interface ManyLines {
  name: string;
  at: number[]; // seconds
  value: (number | null)[];
  // The least and the greatest reading of each step, where they are on the same
  // scale: drawn as a band behind the line, so that no spike is smoothed away.
  min?: (number | null)[];
  max?: (number | null)[];
  // before says that it is from another time, and ahead that it is forecast: drawn dashed.
  drawn?: "before" | "ahead";
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
  onPoint,
  colour = own,
  limits,
  usual,
  alarms,
}: {
  lines: ManyLines[];
  from: number;
  to: number;
  height: number;
  picked: number;
  summary: string;
  onZoom?: (from: number, to: number) => void;
  // A press on the chart: where it was, and the line that is nearest there.
  onPoint?: (p: TracePoint, line: number) => void;
  // colour gives each line its colour; those of the set, one after the other, if left out.
  colour?: (i: number) => string;
  // limits are drawn dotted, where they are near what is shown.
  limits?: { value: number; name: string }[];
  // usual is where values are on a good day, shaded behind the lines.
  usual?: readonly number[];
  // alarms are when an alarm stood, along the top.
  alarms?: readonly AlarmSpan[];
}) {
  const holder = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(undefined);
  const live = useRef({ from, to, onZoom, onPoint, lines, limits, usual, alarms, colour });
  useEffect(() => {
    live.current = { from, to, onZoom, onPoint, lines, limits, usual, alarms, colour };
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
              points: { size: grown(5) },
              // One crosshair stands in all charts of a page, at the same time.
              y: false,
              sync: { key: page, setSeries: false, scales: ["x", null] },
            },
            scales: {
              x: { time: true, range: () => [live.current.from / 1000, live.current.to / 1000] },
              y: { range: (_u, low, high) => roomFor(low, high, live.current.limits ?? []) },
            },
            axes: axes(
              { grid: { stroke: css("--line"), width: grown(1) }, values: timeLabels, size: grown(24) },
              {
                grid: { stroke: css("--line"), width: grown(1) },
                values: ticks,
                size: grown(54),
                space: grown(32),
              },
            ),
            series: [
              {},
              ...(lines.length === 0 ? [undefined] : lines).flatMap((l, i) => [
                ...(lines.length === 0 ? [] : [{ points: { show: false } }, { points: { show: false } }]),
                {
                  stroke: picked >= 0 && picked !== i ? css("--line") : live.current.colour(i),
                  width: grown(picked === i ? 2.4 : l?.drawn === "before" ? 1.2 : i < colours ? 1.6 : 1),
                  dash: l?.drawn && (l.drawn === "before" ? [5, 4] : [2, 3]).map(grown),
                  points: { show: false, filter: alone, size: grown(6), fill: live.current.colour(i) },
                },
              ]),
            ],
            bands: lines.flatMap((l, i) =>
              l.min && (l.drawn === "ahead" || picked === i || (picked < 0 && lines.length <= banded))
                ? [
                    {
                      series: [3 * i + 1, 3 * i + 2] as [number, number],
                      fill: `color-mix(in srgb, ${live.current.colour(i)} 20%, transparent)`,
                    },
                  ]
                : [],
            ),
            hooks: {
              ready: [
                (u) =>
                  presses(
                    u,
                    () =>
                      live.current.onPoint &&
                      ((p) => {
                        const line = nearest(u, live.current.lines, p);
                        if (line >= 0) live.current.onPoint?.(p, line);
                      }),
                  ),
              ],
              drawClear: [(u) => shadeUsual(u, live.current.usual)],
              draw: [
                (u) => drawLimits(u, live.current.limits ?? [], muted, font),
                (u) => live.current.alarms?.forEach((a) => drawAlarm(u, a)),
              ],
              setSelect: [dragged((a, b) => live.current.onZoom?.(a * 1000, b * 1000))],
            },
          },
          columns,
          holder.current!,
        );
      }),
    [columns, lines, height, picked, limits, alarms],
  );
  return (
    <figure className="m-0 min-w-0">
      <div ref={holder} aria-hidden="true" />
      <figcaption className="sr-only">{summary}</figcaption>
    </figure>
  );
}

// nearest is the line that is nearest to a point, above or below it; -1 if none is there. What is
// from another time or forecast has no readings to tell of.
function nearest(u: uPlot, lines: ManyLines[], p: TracePoint): number {
  const far = lines.map((l, i) => {
    const v = l.drawn ? null : valueAt(l.at, l.value, p.at);
    return { i, by: v === null ? Infinity : Math.abs(u.valToPos(v, "y") - u.valToPos(p.level, "y")) };
  });
  const least = far.reduce((a, b) => (b.by < a.by ? b : a), { i: -1, by: Infinity });
  return least.i;
}

// valueAt is the value of a line at a time in seconds, the last before it; null in a gap.
export function valueAt(at: number[], value: (number | null)[], t: number): number | null {
  let [a, b] = [0, at.length];
  while (a < b) {
    const m = (a + b) >> 1;
    if (at[m] <= t) a = m + 1;
    else b = m;
  }
  return a === 0 ? null : value[a - 1];
}

// roomFor widens what an axis shows to the limits that are near.
function roomFor(low: number | null, high: number | null, limits: { value: number }[]): [number, number] {
  if (low === null || high === null) return [0, 1];
  let [a, b] = [low, high];
  const near = 2 * (high - low || Math.abs(high) || 1);
  for (const l of limits) {
    if (l.value > b && l.value - high <= near) b = l.value;
    if (l.value < a && low - l.value <= near) a = l.value;
  }
  const edge = 0.06 * (b - a || Math.abs(b) || 1);
  return [a - edge, b + edge];
}

// shadeUsual draws the usual range behind everything else.
function shadeUsual(u: uPlot, usual?: readonly number[]) {
  if (!usual || usual.length < 2) return;
  const { left, width, top, height } = u.bbox;
  const edge = (v: number) => Math.min(top + height, Math.max(top, u.valToPos(v, "y", true)));
  const [high, low] = [edge(usual[1]), edge(usual[0])];
  if (low <= high) return;
  u.ctx.save();
  u.ctx.globalAlpha = 0.35;
  u.ctx.fillStyle = css("--liquid");
  u.ctx.fillRect(left, high, width, low - high);
  u.ctx.restore();
}

function drawLimits(u: uPlot, limits: { value: number; name: string }[], colour: string, font: string) {
  const { left, width, top, height } = u.bbox;
  const scale = dot();
  u.ctx.save();
  u.ctx.strokeStyle = u.ctx.fillStyle = colour;
  u.ctx.lineWidth = scale;
  u.ctx.font = font.replace(/^[\d.]+/, (px) => String(Number(px) * devicePixelRatio));
  u.ctx.textAlign = "left";
  u.ctx.textBaseline = "bottom";
  u.ctx.setLineDash([3 * scale, 3 * scale]);
  for (const l of limits) {
    const y = u.valToPos(l.value, "y", true);
    if (y < top || y > top + height) continue;
    u.ctx.beginPath();
    u.ctx.moveTo(left, y);
    u.ctx.lineTo(left + width, y);
    u.ctx.stroke();
    label(u.ctx, l.name, left + 4 * scale, y - 2 * scale);
  }
  u.ctx.restore();
}
