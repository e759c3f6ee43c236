import { say } from "./format";

// valuesOf lists the values that a layer gives, as people write them.
export function valuesOf(set: Record<string, unknown>): [string, string][] {
  return Object.entries(set)
    .sort(([a], [b]) => a.localeCompare(b))
    .map(([k, v]) => [k, v === null ? "taken off" : say(v)]);
}

// readValue turns what stands in a field into a value for a setting of a type.
export function readValue(type: string, text: string): unknown {
  if (type === "number" || type === "integer")
    return text.trim() === "" ? text : Number(text.replace(",", "."));
  if (type === "boolean") return text === "true";
  return text;
}

// chosenBy is the condition for the devices of a layer: its target, and what its author reaches
// if they have some devices only; empty for all devices.
export const chosenBy = (l: { target?: string; access?: string }) =>
  l.target && l.access ? `(${l.target}) and (${l.access})` : l.target || l.access || "";

// askable is a condition that may be asked: one in which nothing is left out.
export const askable = (condition: string) => (condition.includes("…") ? "" : condition);
