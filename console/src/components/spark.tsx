import type { History } from "../api/client";
import { rem } from "../lib/format";

// Spark is a trend at a glance, with the limit as a dotted line.
export function Spark({
  history,
  limit,
  width: w = 92,
  height: h = 34,
}: {
  history?: Pick<History, "from" | "to"> & {
    steps: readonly Pick<History["steps"][number], "at" | "mean">[];
  };
  limit?: number;
  width?: number; // at the usual size of letters
  height?: number;
}) {
  const b = history?.steps ?? [];
  if (b.length === 0) return <span className="inline-block" style={{ width: rem(w), height: rem(h) }} />;
  const from = Date.parse(history!.from);
  const to = Date.parse(history!.to);
  let low = Math.min(...b.map((x) => x.mean));
  let high = Math.max(...b.map((x) => x.mean));
  const room = Math.max(high - low, Math.abs(high) * 0.002, 1e-9);
  const shown = limit !== undefined && limit > low - 3 * room && limit < high + 3 * room;
  if (shown) {
    low = Math.min(low, limit);
    high = Math.max(high, limit);
  }
  const span = Math.max(high - low, room);
  const x = (at: string) => ((Date.parse(at) - from) / (to - from)) * w;
  const y = (v: number) => h - 3 - ((v - low) / span) * (h - 6);
  const gap = (to - from) / 12;
  const jump = (i: number) => i === 0 || i >= b.length || Date.parse(b[i].at) - Date.parse(b[i - 1].at) > gap;
  const path = b
    .map((p, i) => {
      // One alone is a point, which the round ends of a line of no length make.
      const alone = jump(i) && jump(i + 1) ? "h0" : "";
      return `${jump(i) ? "M" : "L"}${x(p.at).toFixed(1)} ${y(p.mean).toFixed(1)}${alone}`;
    })
    .join("");
  return (
    <svg
      viewBox={`0 0 ${w} ${h}`}
      style={{ width: rem(w), height: rem(h) }}
      aria-hidden="true"
      className="shrink-0"
    >
      {shown && (
        <line
          x1="0"
          x2={w}
          y1={y(limit)}
          y2={y(limit)}
          stroke="var(--muted)"
          strokeDasharray="2 3"
          strokeWidth="1.4"
        />
      )}
      <path d={path} fill="none" stroke="var(--series)" strokeWidth="1.4" strokeLinecap="round" />
    </svg>
  );
}
