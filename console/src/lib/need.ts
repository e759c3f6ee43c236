import type { Device } from "../api/client";

// severity orders the kinds of health, the worst first.
export const severity: Record<string, number> = { dark: 0, poor: 1, watch: 2, sound: 3 };

// The fuller the vessel, the further to the left; dark ones come first.
export function byNeed(a: Device, b: Device): number {
  return (
    severity[a.health] - severity[b.health] ||
    (a.headspace ?? 2) - (b.headspace ?? 2) ||
    a.id.localeCompare(b.id)
  );
}
