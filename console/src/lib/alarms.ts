import type { Alarm } from "../api/client";
import { rank } from "./format";

// aside are the states in which an alarm calls nobody.
const aside = new Set(["shelved", "suppressed", "out of service"]);

export const isAside = (a: { state: string }) => aside.has(a.state);

// calling leaves out the alarms that stand aside.
export const calling = <T extends { state: string }>(all: readonly T[]): T[] =>
  all.filter((a) => !isAside(a));

// waits tells whether somebody still has to acknowledge an alarm that calls.
export const waits = (a: { state: string }) =>
  a.state === "unacknowledged" ||
  a.state === "returned unacknowledged" ||
  a.state === "latched unacknowledged";

const states = [
  "unacknowledged",
  "acknowledged",
  "latched unacknowledged",
  "returned unacknowledged",
  "latched",
  "shelved",
  "suppressed",
  "out of service",
  "normal",
];

// byUrgency puts what has to be done first: by priority, then what waits, then the
// newest.
export const byUrgency = (a: Alarm, b: Alarm) =>
  Number(isAside(a)) - Number(isAside(b)) ||
  rank(a.priority) - rank(b.priority) ||
  states.indexOf(a.state) - states.indexOf(b.state) ||
  b.raised_at.localeCompare(a.raised_at);

// why says why an alarm stands aside.
export function why(a: Alarm, until: (at: string) => string): string {
  if (a.maintenance) return `for the maintenance ${a.maintenance.replaceAll("_", " ")}`;
  if (a.suppressed_by === "by design") return "by design, as its rule says";
  if (a.suppressed_by) return `by ${a.suppressed_by.replaceAll("_", " ")}`;
  if (a.shelved)
    return `until ${until(a.shelved.until)} by ${a.shelved.by}${a.shelved.why ? `: ${a.shelved.why}` : ""}`;
  return "";
}
