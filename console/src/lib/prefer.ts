import { useLayoutEffect, useReducer } from "react";
import type { Preferences } from "../api/client";
import { applyTheme, type Theme } from "./theme";

// How whoever is signed in wants things shown. It is read by everything that writes a
// time, and changes only as a whole, after which all is drawn again.
let preferred: Preferences = {};
// The time zone of the place that the page is about, if it is about one.
let place: string | undefined;

export function prefer(p: Preferences | undefined) {
  preferred = p ?? {};
  if (preferred.theme) applyTheme(preferred.theme as Theme);
}

// zone is the time zone in which times are written; undefined for that of the browser.
export function zone(): string | undefined {
  switch (preferred.zone) {
    case "site":
      return place;
    case undefined:
    case "":
    case "own":
      return undefined;
  }
  return preferred.zone;
}

// usePlace says in which time zone the place of a page is, while it is shown.
export function usePlace(there: string | undefined) {
  const [, again] = useReducer((n: number) => n + 1, 0);
  useLayoutEffect(() => {
    at(there);
    again(); // before it is seen
    return () => at(undefined);
  }, [there]);
}

const at = (there: string | undefined) => {
  place = there;
};

// weekday is the first day of the week, as Date counts days: 0 for Sunday.
export const weekday = () => ({ sunday: 0, monday: 1, saturday: 6 })[preferred.week ?? "monday"];

const formats = new Map<string, Intl.DateTimeFormat>();

// written writes a time in the zone that was chosen. Formats are made once: making one
// takes longer than writing a hundred times.
export function written(at: number | string | Date, o: Intl.DateTimeFormatOptions): string {
  const timeZone = zone();
  const key = JSON.stringify([timeZone, o]);
  let f = formats.get(key);
  if (!f) formats.set(key, (f = new Intl.DateTimeFormat("en-GB", { ...o, timeZone })));
  return f.format(at instanceof Date ? at : new Date(at));
}

// Local is a time on the clock of the zone that was chosen.
export interface Local {
  year: number;
  month: number; // from 1
  day: number;
  weekday: number; // 0 for Sunday
  hour: number;
  minute: number;
}

export function local(ms: number): Local {
  const timeZone = zone();
  if (!timeZone) {
    const d = new Date(ms);
    return {
      year: d.getFullYear(),
      month: d.getMonth() + 1,
      day: d.getDate(),
      weekday: d.getDay(),
      hour: d.getHours(),
      minute: d.getMinutes(),
    };
  }
  const key = "local " + timeZone;
  let f = formats.get(key);
  if (!f)
    formats.set(
      key,
      (f = new Intl.DateTimeFormat("en-GB", {
        timeZone,
        hourCycle: "h23",
        year: "numeric",
        month: "numeric",
        day: "numeric",
        hour: "numeric",
        minute: "numeric",
      })),
    );
  const part = Object.fromEntries(f.formatToParts(ms).map((p) => [p.type, Number(p.value)]));
  return {
    year: part.year,
    month: part.month,
    day: part.day,
    hour: part.hour,
    minute: part.minute,
    weekday: new Date(Date.UTC(part.year, part.month - 1, part.day)).getUTCDay(),
  };
}

// midnight is when a day of the zone that was chosen begins, in ms. Days may be
// counted over the end of a month.
export function midnight(year: number, month: number, day: number): number {
  if (!zone()) return new Date(year, month - 1, day).getTime();
  const clock = Date.UTC(year, month - 1, day);
  let at = clock;
  // What the clock shows then is off by the zone's distance from UTC, which may change
  // on that day: the second time it is right.
  for (let i = 0; i < 2; i++) {
    const l = local(at);
    at += clock - Date.UTC(l.year, l.month - 1, l.day, l.hour, l.minute);
  }
  return at;
}
