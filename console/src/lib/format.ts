import type { Property } from "../api/client";
import { local, written } from "./prefer";

// Numbers carry a thin space between thousands.
export function number(v: number, decimals = -1): string {
  const s = decimals >= 0 ? v.toFixed(decimals) : String(Math.round(v * 1e6) / 1e6);
  const [whole, part] = s.split(".");
  const spaced = whole.replace(/\B(?=(\d{3})+$)/g, "\u2009");
  return (part ? `${spaced}.${part}` : spaced).replace("-", "\u2212");
}

// rate writes how many there are a second.
export const rate = (x: number) => `${number(x, x < 10 ? 1 : 0)} a second`;

// bytes writes a size as people read it.
export function bytes(n: number): string {
  if (n < 10_000) return `${number(n, 0)} B`;
  if (n < 1e7) return `${number(n / 1e3, 0)} kB`;
  if (n < 2e9) return `${number(n / 1e6, 1)} MB`;
  return `${(n / 1e9).toFixed(1)} GB`;
}

export function say(v: unknown, p?: Pick<Property, "decimals">): string {
  if (v === null || v === undefined) return "–";
  if (typeof v === "number") return number(v, p?.decimals ?? -1);
  if (typeof v === "boolean") return v ? "yes" : "no";
  return sealed(v) ? "(secret)" : String(v);
}

// sealed says that a value is a secret, which only the service can open.
export const sealed = (v: unknown) => typeof v === "string" && /^sealed:[\w-]{40,}$/.test(v);

export function lasting(ms: number): string {
  const s = Math.max(0, Math.floor(ms / 1000));
  if (s < 60) return `${s} s`;
  const m = Math.floor(s / 60);
  if (m < 60) return `${m} min`;
  const h = Math.floor(m / 60);
  if (h < 24) return m % 60 ? `${h} h ${m % 60} min` : `${h} h`;
  const d = Math.floor(h / 24);
  return h % 24 ? `${d} d ${h % 24} h` : `${d} d`;
}

export function ago(at: string | undefined, now: number): string {
  if (!at) return "never";
  const ms = now - Date.parse(at);
  return ms < 2000 ? "just now" : `${lasting(ms)} ago`;
}

export const absolute = (at: string) => written(at, { dateStyle: "medium", timeStyle: "medium" });

// minuteOf is a time to the minute, with its day.
export const minuteOf = (at: number) =>
  written(at, { weekday: "short", day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" });

// soonest is the day of a time, without its hour.
export const soonest = (at: string) => written(at, { dateStyle: "medium" });

export const clock = (at: string | number) => written(at, { timeStyle: "medium" });

// soon is a time of the next days: without its day where that is today.
export function soon(at: string): string {
  const [a, b] = [local(Date.parse(at)), local(Date.now())];
  const today = a.day === b.day && a.month === b.month && a.year === b.year;
  return written(at, { weekday: today ? undefined : "short", hour: "2-digit", minute: "2-digit" });
}

// between says when a limit is reached, with the interval in which it is with 95 %.
export function between(l: { early?: string; late?: string }): string {
  if (l.early && l.late) return `with 95 % between ${soon(l.early)} and ${soon(l.late)}`;
  return l.early ? `with 95 % not before ${soon(l.early)}` : "the interval is not known";
}

// rem is a length that grows with the screen, from pixels of the usual one.
export const rem = (px: number) => `${px / 16}rem`;

// called is what people call a device.
export const called = (d: { id: string; name?: string }) => d.name || d.id;

export const words = (name: string) => name.replaceAll("_", " ");

export const priorities = ["urgent", "high", "medium", "low"] as const;
export type Priority = (typeof priorities)[number];
export const rank = (p: string) => priorities.indexOf(p as Priority);

export const plural = (n: number, one: string, many = one + "s") => `${number(n)} ${n === 1 ? one : many}`;
