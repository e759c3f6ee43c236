import type { Device } from "../api/client";

// Examples are made from the fleet that is there: a name that somebody knows
// teaches more than one that is made up.

// With so many values a label is a name of each device, and no group.
const enough = 500;

// labelKeys are the labels that devices have, those with the fewest values first:
// they are what people group by.
export function labelKeys(devices: Iterable<Device>): string[] {
  const values = new Map<string, Set<string>>();
  for (const d of devices)
    for (const k in d.labels) {
      const seen = values.get(k);
      if (!seen) values.set(k, new Set([d.labels[k]]));
      else if (seen.size < enough) seen.add(d.labels[k]);
    }
  return [...values].sort((a, b) => a[1].size - b[1].size || (a[0] < b[0] ? -1 : 1)).map(([k]) => k);
}

interface Example {
  model: string;
  metric: string;
  limit: number;
  upward: boolean;
}

// exampleOf is a metric with a limit that is worth watching: the one nearest to
// its limit, or else any number that is measured.
export function exampleOf(devices: Iterable<Device>): Example | undefined {
  let best: (Example & { headspace: number }) | undefined;
  for (const d of devices) {
    for (const m of d.margins ?? [])
      if (m.metric && (!best || m.headspace < best.headspace))
        best = {
          model: d.model,
          metric: m.metric,
          limit: m.limit,
          upward: m.upward,
          headspace: m.known ? m.headspace : 1,
        };
    if (!best)
      for (const [metric, l] of Object.entries(d.latest ?? {}))
        if (typeof l.value === "number") {
          best = { model: d.model, metric, limit: Math.ceil(l.value), upward: true, headspace: 2 };
          break;
        }
  }
  return best;
}

// conditionOf writes an example as a condition.
export const conditionOf = (e: Example) => `${e.metric} ${e.upward ? ">" : "<"} ${e.limit}`;
