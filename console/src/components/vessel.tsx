import { memo } from "react";
import type { Device } from "../api/client";
import { calling } from "../lib/alarms";
import { called, rank, rem } from "../lib/format";
import { Badge } from "./badge";

// The worst open alarm of a device, for its badge.
export function worst(d: Device) {
  return calling(d.alarms).sort((a, b) => rank(a.priority) - rank(b.priority))[0];
}

// say tells in words what the vessel shows.
export function describe(d: Device): string {
  const parts = [d.name ? `${called(d)} (${d.id})` : d.id, d.health ?? d.status];
  if (d.reasons.length) parts.push(d.reasons.join("; "));
  if (d.headspace !== undefined) parts.push(`headspace ${Math.round(d.headspace * 100)} %`);
  return parts.join(", ");
}

const colours: Record<string, string> = { watch: "var(--medium)", poor: "var(--urgent)" };

// liquid draws what fills the vessel below a height: walls down to 27, then a
// half circle of radius 14.5 round (17, 27).
function liquid(top: number): string {
  if (top <= 27) return `M2.5 ${top}H31.5V27a14.5 14.5 0 0 1-29 0z`;
  const half = Math.sqrt(Math.max(0, 14.5 ** 2 - (top - 27) ** 2));
  return `M${17 - half} ${top}H${17 + half}A14.5 14.5 0 0 1 ${17 - half} ${top}z`;
}

// Vessel is the mark of a device: the liquid rises as its headspace shrinks.
// leastForBadge is the width under which a badge could not be read.
export const leastForBadge = 18;

// grown is a length that follows the text, and the room that a page gives glyphs.
const grown = (px: number) => `calc(${rem(px)} * var(--glyphs, 1))`;

// A device that did not change is the same object, and is not drawn again.
export const Vessel = memo(function Vessel({
  device,
  width,
  badge = true,
}: {
  device: Device;
  width: number;
  badge?: boolean;
}) {
  const alarm = worst(device);
  const abnormal = colours[device.health ?? ""];
  const alarmColour = alarm && device.health === "poor" ? `var(--${alarm.priority})` : abnormal;
  const dark = device.health === "dark";
  const awaited = device.health === "awaited";
  // Unknown headspace is drawn empty, like a vessel nobody has measured.
  const level = device.headspace === undefined ? 0 : 1 - device.headspace;
  const top = 38 - 34 * Math.max(0.04, Math.min(1, level));
  const colour = alarmColour ?? "var(--rim)";
  const fill = alarmColour ?? "var(--liquid)";
  const drawing = (
    <svg
      viewBox="0 0 34 44"
      style={{ width: grown(width), height: grown((width * 44) / 34) }}
      className="block"
      aria-hidden="true"
    >
      {!dark && device.headspace !== undefined && <path d={liquid(top)} fill={fill} />}
      <path
        d="M2 1v26a15 15 0 0 0 30 0V1"
        fill="none"
        stroke={dark ? "var(--ink)" : colour}
        strokeWidth={dark || abnormal ? 2.2 : 1.6}
        strokeDasharray={dark ? "3.5 2.5" : awaited ? "0.1 3.2" : undefined}
        strokeLinecap={awaited ? "round" : undefined}
      />
    </svg>
  );
  // Thousands of vessels are drawn with as few elements as will do.
  if (!badge || !alarm || width < leastForBadge) return drawing;
  return (
    <span
      className="relative inline-block align-top"
      style={{ width: grown(width), height: grown((width * 44) / 34) }}
    >
      {drawing}
      <span className="absolute -top-1.5 -right-2">
        <Badge
          priority={alarm.priority}
          waiting={alarm.state === "unacknowledged"}
          size={Math.max(13, width * 0.46)}
        />
      </span>
    </span>
  );
});

// Mark is the product's own sign.
export function Mark() {
  return (
    <svg viewBox="0 0 22 26" width="1.25rem" height="1.5rem" aria-hidden="true">
      <path d="M3.5 13h15v3.5a7.5 7.5 0 0 1-15 0z" fill="currentColor" />
      <path d="M2.5 2v14.5a8.5 8.5 0 0 0 17 0V2" fill="none" stroke="currentColor" strokeWidth="2" />
    </svg>
  );
}
