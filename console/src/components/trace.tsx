import { useEffect, useMemo, useRef } from "react";
import uPlot from "uplot";
import { page } from "../lib/crosshair";
import { timeLabels } from "../lib/history";
import { alone, axes, css, dot, dragged, inZone, label, look, mount, ticks } from "../lib/plot";
import { grown } from "../lib/size";

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
  step?: boolean;
  // Something to compare with, drawn dashed on the same times.
  other?: TraceData;
  alarms?: AlarmSpan[];
  // What probably comes: its mean, in a band.
  ahead?: TraceData;
  // Where others of its kind lie, behind the line.
  peers?: TraceData;
  // What happened, as ticks on the time axis; seconds since 1970.
  marks?: number[];
  // A line beside the limit, dotted: where an alarm returns.
  deadband?: number;
  // Dragging these lines asks for another value.
  onLimit?: (value: number) => void;
  onDeadband?: (value: number) => void;
  // Dragging over a times of time asks for it.
  onZoom?: (from: number, to: number) => void;
  // A press on the chart: where it was on the page, its time in seconds, and the value at its
  // height.
  onPoint?: (p: TracePoint) => void;
  // What stands under the cursor: its time in seconds, and the values there.
  onHover?: (at: number | null, value: number | null, other: number | null) => void;
}

export interface TracePoint {
  x: number;
  y: number;
  at: number;
  level: number;
}

export interface AlarmSpan {
  from: number;
  to: number;
  priority: string;
  // It came and went in between, so when it stood is not known.
  often?: boolean;
}

// Trace is the one wrapper round the chart library: a line of means in a band
// of least and greatest values, with the limit drawn in.
export function Trace(props: Props) {
  const { data, from, to, height, limits, decimals, unit, summary, step, other, alarms, ahead } = props;
  const holder = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(undefined);
  const { peers, marks } = props;
  const { deadband, onZoom, onHover, onLimit, onDeadband, onPoint } = props;
  const now = {
    limits,
    from,
    to,
    decimals,
    alarms,
    marks,
    deadband,
    onZoom,
    onHover,
    onLimit,
    onDeadband,
    onPoint,
  };
  const live = useRef(now);
  useEffect(() => {
    live.current = now;
  });
  const zooms = Boolean(props.onZoom);
  const columns = useMemo<uPlot.AlignedData>(() => {
    const own: uPlot.AlignedData = [data.at, data.min, data.max, data.mean];
    const none: TraceData = { at: [], mean: [], min: [], max: [] };
    const o = other ?? none;
    const f = ahead ?? none;
    const b = peers ?? none;
    // Times that only one of them has are no gaps of the others.
    return uPlot.join(
      [own, [o.at, o.mean], [f.at, f.min, f.max, f.mean], [b.at, b.min, b.max]],
      [
        [0, 2, 2, 2],
        [0, 2],
        [0, 2, 2, 2],
        [0, 2, 2],
      ],
    );
  }, [data, other, ahead, peers]);
  const first = useRef(columns);

  useEffect(
    () =>
      mount(holder.current!, plot, height, (width) => {
        const line = css("--line");
        const { muted, font } = look();
        return new uPlot(
          {
            width,
            height,
            tzDate: inZone,
            cursor: {
              y: false,
              sync: { key: page, scales: ["x", null] },
              drag: { x: zooms, y: false, setScale: false },
              points: { size: grown(5) },
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
            axes: axes(
              { grid: { stroke: line, width: grown(1) }, values: timeLabels },
              {
                grid: { show: false },
                values: step
                  ? (_u: uPlot, vs: number[]) => vs.map((v) => (v === 0 ? "no" : v === 1 ? "yes" : ""))
                  : ticks,
                ...(step ? { splits: () => [0, 1] } : {}),
              },
            ),
            series: [
              {},
              { stroke: "transparent", points: { show: false } },
              { stroke: "transparent", points: { show: false } },
              {
                stroke: css("--series"),
                width: grown(1.6),
                points: { show: false, filter: alone, size: grown(6), fill: css("--series") },
                paths: step ? uPlot.paths.stepped!({ align: 1 }) : undefined,
              },
              {
                stroke: css("--series-2"),
                width: grown(1.3),
                dash: [grown(5), grown(4)],
                points: { show: false, filter: alone, size: grown(6), fill: css("--series-2") },
                paths: step ? uPlot.paths.stepped!({ align: 1 }) : undefined,
              },
              { stroke: "transparent", points: { show: false } },
              { stroke: "transparent", points: { show: false } },
              {
                stroke: css("--press"),
                width: grown(1.4),
                dash: [grown(2), grown(3)],
                points: { show: false },
              },
              { stroke: "transparent", points: { show: false }, spanGaps: true },
              { stroke: "transparent", points: { show: false }, spanGaps: true },
            ],
            bands: [
              { series: [2, 1], fill: css("--band") },
              { series: [6, 5], fill: css("--probable") },
              { series: [9, 8], fill: `${muted}2e` },
            ],
            hooks: {
              ready: [(u) => grips(u, () => live.current), (u) => presses(u, () => live.current.onPoint)],
              draw: [
                (u) => live.current.limits.forEach((l) => drawLimit(u, l, font, muted)),
                (u) => drawDeadband(u, live.current.deadband, live.current.limits[0]?.value, muted),
                (u) => live.current.alarms?.forEach((a) => drawAlarm(u, a)),
                (u) => live.current.marks?.forEach((at) => drawMark(u, at, muted)),
              ],
              setSelect: [dragged((a, b) => live.current.onZoom?.(a, b))],
              setCursor: [
                (u) => {
                  const i = u.cursor.idx;
                  const at = (k: number) => (i == null ? null : ((u.data[k]?.[i] ?? null) as number | null));
                  live.current.onHover?.(i == null ? null : u.data[0][i], at(3), at(4));
                },
              ],
            },
          },
          first.current,
          holder.current!,
        );
      }),
    [height, step, zooms],
  );

  useEffect(() => {
    first.current = columns;
    plot.current?.setData(columns);
  }, [columns, from, to, limits, alarms, marks, deadband]);

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

// drawDeadband draws where an alarm returns.
function drawDeadband(u: uPlot, at: number | undefined, limit: number | undefined, colour: string) {
  const { ctx, bbox } = u;
  if (at === undefined || at === limit) return;
  const y = u.valToPos(at, "y", true);
  if (y < bbox.top || y > bbox.top + bbox.height) return;
  ctx.save();
  ctx.strokeStyle = colour;
  ctx.setLineDash([dot(), 3 * dot()]);
  ctx.lineWidth = 1.4 * dot();
  ctx.beginPath();
  ctx.moveTo(bbox.left, y);
  ctx.lineTo(bbox.left + bbox.width, y);
  ctx.stroke();
  ctx.restore();
}

interface Gripped {
  limits: Limit[];
  deadband?: number;
  onLimit?: (value: number) => void;
  onDeadband?: (value: number) => void;
}

// grips lets the limit and the deadband be dragged.
function grips(u: uPlot, now: () => Gripped) {
  const which = (y: number): "onLimit" | "onDeadband" | undefined => {
    const { limits, deadband, onLimit, onDeadband } = now();
    const far = (v: number | undefined) => (v === undefined ? Infinity : Math.abs(u.valToPos(v, "y") - y));
    const [a, b] = [onLimit ? far(limits[0]?.value) : Infinity, onDeadband ? far(deadband) : Infinity];
    if (Math.min(a, b) > grown(7)) return undefined;
    // Where both lie on one another, dragging inwards makes a deadband.
    return b <= a ? "onDeadband" : "onLimit";
  };
  let held: "onLimit" | "onDeadband" | undefined;
  u.over.addEventListener("pointerdown", (e) => {
    held = which(e.offsetY);
    if (!held) return;
    e.stopPropagation();
    u.over.setPointerCapture(e.pointerId);
  });
  u.over.addEventListener("pointermove", (e) => {
    u.over.style.cursor = held || which(e.offsetY) ? "ns-resize" : "";
    if (held) now()[held]?.(rounded(u.posToVal(e.offsetY, "y"), u));
  });
  const end = () => (held = undefined);
  u.over.addEventListener("pointerup", end);
  u.over.addEventListener("pointercancel", end);
}

// presses tells a press on the chart that drags nothing.
export function presses(u: uPlot, now: () => Props["onPoint"]) {
  let down: PointerEvent | undefined;
  u.over.addEventListener("pointerdown", (e) => (down = e));
  u.over.addEventListener("pointerup", (e) => {
    const still = down && Math.hypot(e.clientX - down.clientX, e.clientY - down.clientY) < 4;
    if (!still || e.button !== 0 || u.data[0].length === 0) return;
    now()?.({
      x: e.clientX,
      y: e.clientY,
      at: u.posToVal(e.offsetX, "x"),
      level: rounded(u.posToVal(e.offsetY, "y"), u),
    });
  });
}

// rounded leaves as many digits as a pixel is worth.
function rounded(v: number, u: uPlot): number {
  const pixel = Math.abs(u.posToVal(1, "y") - u.posToVal(0, "y"));
  const digits = Math.max(0, -Math.floor(Math.log10(pixel || 1)));
  return Number(v.toFixed(Math.min(digits, 6)));
}

// drawAlarm marks when an alarm stood, along the top.
export function drawAlarm(u: uPlot, a: AlarmSpan) {
  const { ctx, bbox } = u;
  const clamp = (x: number) => Math.min(Math.max(x, bbox.left), bbox.left + bbox.width);
  const left = clamp(u.valToPos(a.from, "x", true));
  const right = clamp(u.valToPos(a.to, "x", true));
  if (a.to < u.scales.x.min! || a.from > u.scales.x.max!) return;
  ctx.save();
  ctx.fillStyle = css(`--${a.priority}`);
  ctx.fillRect(left, bbox.top, Math.max(right - left, 3 * dot()), (a.often ? 2 : 4) * dot());
  ctx.globalAlpha = a.often ? 0 : 0.08;
  ctx.fillRect(left, bbox.top, Math.max(right - left, 3 * dot()), bbox.height);
  ctx.restore();
}

// drawMark marks when something happened, at the bottom.
function drawMark(u: uPlot, at: number, colour: string) {
  const { ctx, bbox } = u;
  const x = u.valToPos(at, "x", true);
  if (x < bbox.left || x > bbox.left + bbox.width) return;
  const d = dot();
  const foot = bbox.top + bbox.height;
  ctx.save();
  ctx.strokeStyle = ctx.fillStyle = colour;
  ctx.globalAlpha = 0.45;
  ctx.lineWidth = d;
  ctx.beginPath();
  ctx.moveTo(x, bbox.top);
  ctx.lineTo(x, foot);
  ctx.stroke();
  ctx.globalAlpha = 1;
  ctx.beginPath();
  ctx.moveTo(x, foot - 7 * d);
  ctx.lineTo(x + 4 * d, foot);
  ctx.lineTo(x - 4 * d, foot);
  ctx.fill();
  ctx.restore();
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
  ctx.setLineDash([3 * dot(), 3 * dot()]);
  ctx.lineWidth = 1.2 * dot();
  ctx.beginPath();
  ctx.moveTo(bbox.left, y);
  ctx.lineTo(bbox.left + bbox.width, y);
  ctx.stroke();
  ctx.fillStyle = colour;
  ctx.font = font.replace(/^[\d.]+px/, (px) => `${parseFloat(px) * devicePixelRatio}px`);
  ctx.textAlign = "left";
  const above = y - bbox.top > 16 * dot();
  ctx.textBaseline = above ? "bottom" : "top";
  label(ctx, limit.name, bbox.left + 4 * dot(), y + (above ? -2 : 3) * dot());
  ctx.restore();
}
