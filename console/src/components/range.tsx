import type { Property } from "../api/client";
import { number } from "../lib/format";

// Range draws what a number may be: the line is from minimum to maximum, the
// thick part is usual, the mark is the default of a setting.
export function Range({ property: p }: { property: Property }) {
  if (p.enum) return <Words>{p.enum.join(" · ")}</Words>;
  if (p.type !== "number" && p.type !== "integer")
    return <Words>{p.type === "text" ? "any text" : ""}</Words>;
  const low = p.minimum ?? p.usual?.[0];
  const high = p.maximum ?? p.usual?.[1];
  if (low === undefined || high === undefined || low >= high) {
    if (p.minimum !== undefined) return <Words>from {number(p.minimum)}</Words>;
    if (p.maximum !== undefined) return <Words>to {number(p.maximum)}</Words>;
    return <Words>any</Words>;
  }
  const width = 132;
  const x = (v: number) => (Math.min(Math.max((v - low) / (high - low), 0), 1) * width).toFixed(1);
  const usual = p.usual;
  return (
    <span className="grid grid-cols-[1fr_132px_1fr] items-center gap-2">
      <span className="text-right text-muted">{number(low)}</span>
      <svg width={width} height="16" aria-hidden="true" className="overflow-visible">
        <line x1="0" x2={width} y1="8" y2="8" stroke="var(--rim)" />
        <line x1="0.5" x2="0.5" y1="4" y2="12" stroke="var(--rim)" />
        <line x1={width - 0.5} x2={width - 0.5} y1="4" y2="12" stroke="var(--rim)" />
        {usual && (
          <rect
            x={x(usual[0])}
            y="5"
            height="6"
            width={Math.max(Number(x(usual[1])) - Number(x(usual[0])), 2)}
            fill="var(--muted)"
          />
        )}
        {typeof p.default === "number" && <circle cx={x(p.default)} cy="8" r="4" fill="var(--ink)" />}
      </svg>
      <span className="text-muted">{number(high)}</span>
    </span>
  );
}

const Words = ({ children }: { children: React.ReactNode }) => (
  <span className="block text-center text-muted">{children}</span>
);
