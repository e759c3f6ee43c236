import type { ReactNode } from "react";
import type { Device, Instrument, Property } from "../../api/client";
import { words } from "../../lib/format";

// Shown is one instrument with the little it needs; the page frames it.
export interface Shown {
  x: Instrument;
  title: string;
  aside?: ReactNode;
  children: ReactNode;
}

// Frame is what every instrument stands in: its title, and what it is about.
export function Frame({ title, aside, children }: { title: string; aside?: ReactNode; children: ReactNode }) {
  return (
    <div className="flex h-full min-w-0 flex-col border-t border-line pt-1.5">
      <div className="flex items-baseline justify-between gap-3 pb-1">
        <h2 className="max-w-[75%] shrink-0 truncate font-semibold" title={title}>
          {title}
        </h2>
        {aside && <span className="min-w-0 truncate text-muted">{aside}</span>}
      </div>
      <div className="min-h-0 flex-1 overflow-x-hidden overflow-y-auto">{children}</div>
    </div>
  );
}

export const None = ({ children }: { children: ReactNode }) => <p className="py-2 text-muted">{children}</p>;

// NoneYet says why there is no value of a metric.
export const NoneYet = ({
  pending,
  devices,
  metric,
}: {
  pending: boolean;
  devices: readonly Device[];
  metric: string;
}) => (
  <None>
    {pending
      ? "Loading…"
      : devices.length === 0
        ? "No device is chosen."
        : `Nobody has sent ${words(metric)} yet.`}
  </None>
);

// titleOf is what stands over an instrument that has no title of its own.
export function titleOf(x: Instrument, p?: Property): string {
  if (x.title) return x.title;
  const metric = x.metrics?.length ? (p?.title ?? words(x.metrics[0])) : "";
  switch (x.instrument) {
    case "alarms":
      return "Alarms";
    case "map":
      return "Map";
    case "vessels":
      return "Vessels";
    case "plan":
      return "Plan";
    case "roster":
      return "Devices";
    case "note":
      return "";
    case "tally":
      return x.count?.startsWith("label.") ? `By ${x.count.slice(6)}` : `By ${x.count ?? ""}`;
    case "control":
      return words(x.setting ?? x.command ?? "");
    case "strip":
      return x.states === "link" ? "On line" : x.states === "alarm" ? "Alarms over time" : metric;
    case "histogram":
      return `${metric}, how it is spread`;
  }
  return metric;
}

// about says of which devices something is.
export const about = (devices: readonly Device[]) =>
  devices.length === 1 ? devices[0].id : `${devices.length} devices`;

// limitsNear are the limits that rules set to a metric of some devices, each once.
export function limitsNear(
  devices: readonly Device[],
  metric: string,
): { value: number; upward: boolean; rule: string }[] {
  const out = new Map<string, { value: number; upward: boolean; rule: string }>();
  for (const d of devices)
    for (const m of d.margins)
      if (m.metric === metric && m.of === m.metric && !out.has(m.rule + m.limit))
        out.set(m.rule + m.limit, { value: m.limit, upward: m.upward, rule: m.rule });
  return [...out.values()].slice(0, 4);
}
