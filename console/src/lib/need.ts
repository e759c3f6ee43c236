import type { Device } from "../api/client";

// severity orders the kinds of health, the worst first.
export const severity: Record<string, number> = { dark: 0, poor: 1, watch: 2, awaited: 3, sound: 4 };

// severityOf ranks a device; what is out of service comes last.
export const severityOf = (d: Device): number => severity[d.health ?? ""] ?? 5;

// The fuller the vessel, the further to the left; dark ones come first.
export function byNeed(a: Device, b: Device): number {
  return severityOf(a) - severityOf(b) || (a.headspace ?? 2) - (b.headspace ?? 2) || (a.id < b.id ? -1 : 1);
}
