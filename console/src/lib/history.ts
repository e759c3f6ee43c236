import type { Device, Property } from "../api/client";
import type { TraceData } from "../components/trace";
import { lasting, say, words } from "./format";
import { local, midnight, weekday } from "./prefer";

// expectedGap is how long nothing may come until a line is broken.
export function expectedGap(interval: string, span: number, points = 360): number {
  const m = /^(?:(\d+)h)?(?:(\d+)min)?(?:(\d+)s)?$/.exec(interval);
  const ms = m ? (Number(m[1] ?? 0) * 3600 + Number(m[2] ?? 0) * 60 + Number(m[3] ?? 0)) * 1000 : 60_000;
  return Math.max(3 * ms, (span / points) * 2.5);
}

interface Step {
  at: string;
  min: number;
  max: number;
  value: number;
}

// withGaps puts a hole where nothing came for longer than expected. Times are
// moved by shift ms, to lay another time over this one.
export function withGaps(steps: Step[], gap: number, shift = 0): TraceData {
  const d: TraceData = { at: [], mean: [], min: [], max: [] };
  let last = -Infinity;
  for (const b of steps) {
    const at = Date.parse(b.at) + shift;
    if (at - last > gap && d.at.length) {
      d.at.push((last + 1) / 1000);
      d.mean.push(null);
      d.min.push(null);
      d.max.push(null);
    }
    d.at.push(at / 1000);
    d.mean.push(b.value);
    d.min.push(b.min);
    d.max.push(b.max);
    last = at;
  }
  return d;
}

export function summarise(p: Property, d: TraceData, from: number, to: number): string {
  const values = d.mean.filter((v): v is number => v !== null);
  if (!values.length) return `${p.name}: no readings in ${lasting(to - from)}.`;
  const known = (x: (number | null)[]) => x.filter((v): v is number => v !== null);
  return `${p.name} over ${lasting(to - from)}: from ${say(values[0], p)} to ${say(values.at(-1), p)}, least ${say(Math.min(...known(d.min)), p)}, greatest ${say(Math.max(...known(d.max)), p)}.`;
}

// Times is what a chart shows, in ms; live says that its end is now.
export interface Times {
  from: number;
  to: number;
  live: boolean;
}

const hour = 3600_000;
export const spans = [
  { value: "1h", name: "1 h", ms: hour },
  { value: "6h", name: "6 h", ms: 6 * hour },
  { value: "24h", name: "24 h", ms: 24 * hour },
  { value: "7d", name: "7 d", ms: 7 * 24 * hour },
  { value: "30d", name: "30 d", ms: 30 * 24 * hour },
  { value: "90d", name: "90 d", ms: 90 * 24 * hour },
  { value: "today", name: "Today", ms: 0 },
  { value: "yesterday", name: "Yesterday", ms: 0 },
  { value: "week", name: "This week", ms: 0 },
] as const;

// Spans of boards: those that people name, beside those of the last hours.
export const boardSpans = [
  { value: "1h", name: "1 h" },
  { value: "6h", name: "6 h" },
  { value: "12h", name: "12 h" },
  { value: "24h", name: "24 h" },
  { value: "today", name: "today" },
  { value: "yesterday", name: "yesterday" },
  { value: "week", name: "this week" },
  { value: "last-week", name: "last week" },
  { value: "month", name: "this month" },
  { value: "last-month", name: "last month" },
] as const;

// timesOf turns a chosen span, as of now, into times. Days are those of the time zone
// that somebody prefers, and weeks begin as they do for them.
export function timesOf(span: string, now: number): Times {
  const today = local(now);
  const day = (n: number) => midnight(today.year, today.month, today.day + n);
  switch (span) {
    case "today":
      return { from: day(0), to: day(1), live: false };
    case "yesterday":
      return { from: day(-1), to: day(0), live: false };
    case "week":
    case "last-week": {
      const first = -((today.weekday - weekday() + 7) % 7) - (span === "week" ? 0 : 7);
      return { from: day(first), to: day(first + 7), live: false };
    }
    case "month":
    case "last-month": {
      const month = today.month - (span === "month" ? 0 : 1);
      return { from: midnight(today.year, month, 1), to: midnight(today.year, month + 1, 1), live: false };
    }
  }
  const [from, to] = span.split("..").map(Date.parse);
  if (from < to) return { from, to, live: false };
  const ms = msOf(span) || 24 * hour;
  const end = endOf(ms, now);
  return { from: end - ms, to: end, live: true };
}

// endOf is where a span ends that goes on with the clock. It moves on in steps, so that charts do
// not crawl: of what they show in half a dot, of ten seconds at least and a minute at most.
export function endOf(ms: number, now: number): number {
  const step = Math.min(Math.max(Math.round(ms / 2000 / 1000) * 1000, 10_000), 60_000);
  return Math.ceil(now / step) * step;
}

// msOf is how long a written duration is, such as 24h or 7d; 0 for none.
export function msOf(s: string | undefined): number {
  const [, n, unit] = /^(\d+)(s|min|h|d)$/.exec(s ?? "") ?? [];
  return Number(n) * ({ s: 1000, min: 60_000, h: hour, d: 24 * hour }[unit] ?? 0) || 0;
}

// newestOf is the time of the newest reading of a device, live or from a file.
export function newestOf(device: Device): number | undefined {
  const times = Object.values(device.latest).map((l) => Date.parse(l.at));
  return times.length ? Math.max(...times) : undefined;
}

// whereDataIs moves a span until now, in which nothing can be, to where it ends.
export function whereDataIs(s: Times, newest: number | undefined): Times {
  if (!s.live || newest === undefined || newest >= s.from) return s;
  const to = Math.ceil(newest / 10_000) * 10_000 + 10_000;
  return { from: to - (s.to - s.from), to, live: false };
}

export const iso = (ms: number) => new Date(ms).toISOString();

// limitsOf are the limits that rules set to a metric itself.
export function limitsOf(margins: Device["margins"], p: Property) {
  return margins
    .filter((m) => m.metric === p.name && m.of === m.metric)
    .map((m) => ({
      value: m.limit,
      upward: m.upward,
      name: `${words(m.rule)}, ${say(m.limit)} ${p.display ?? ""}`,
    }));
}

const pad = (n: number) => String(n).padStart(2, "0");
const days = ["Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"];

// timeLabels are the labels of a time axis: the hour, or the day at midnight.
export function timeLabels(_u: unknown, splits: number[]) {
  return splits.map((s) => {
    const d = local(s * 1000);
    const time = `${pad(d.hour)}:${pad(d.minute)}`;
    return time === "00:00" ? `${days[d.weekday]} ${d.day}` : time;
  });
}
