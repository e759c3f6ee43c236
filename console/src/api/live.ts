import { useSyncExternalStore } from "react";
import type { Device, Schemas, Service, TrafficEntry } from "./client";

// The fleet as the live stream tells it. Pages read it and never ask again.
export interface Fleet {
  devices: ReadonlyMap<string, Device>;
  service?: Service;
  // state is "live" while the stream speaks, "stale" when it has stopped.
  state: "connecting" | "live" | "stale";
  heardAt: number;
  // coming is how many devices have come of a fleet that is still being told.
  coming: number;
}

const nothing: Fleet = { devices: new Map(), state: "connecting", heardAt: 0, coming: 0 };
let fleet = nothing;
const listeners = new Set<() => void>();

// What pages about all devices show. Of a large fleet something changes with
// every message of the stream, and nobody reads ten thousand devices ten times a
// second: it follows once a second then.
const many = 2000;
const manyEvery = 1000;
let all = fleet.devices;
let allAt = 0;
let allDue = 0;

function follow() {
  const wait = allAt + manyEvery - Date.now();
  if (all.size > many && fleet.devices.size > many && wait > 0) {
    allDue ||= window.setTimeout(() => {
      allDue = 0;
      if (paused) return; // it follows with what comes after that
      follow();
      listeners.forEach((f) => f());
    }, wait);
    return;
  }
  all = fleet.devices;
  allAt = Date.now();
}

function set(next: Partial<Fleet>) {
  fleet = { ...fleet, ...next };
  if (paused) return;
  if (next.devices) follow();
  listeners.forEach((f) => f());
}

// Pages stand still while somebody drags something over them, so that it follows the hand.
let paused = false;

// pauseFleet has pages stay as they are, until it is told to go on.
export function pauseFleet(pause: boolean) {
  if (paused === pause) return;
  paused = pause;
  if (!paused && waiting.length > 0) takeWaiting();
  else if (!paused) set({ devices: fleet.devices });
}

// askWhetherSignedIn finds out why a stream was refused, which a browser does not
// tell: whoever is signed out is shown the sign-in.
async function askWhetherSignedIn() {
  const answer = await fetch("/api/v1/me").catch(() => undefined);
  if (answer?.status === 401) window.dispatchEvent(new Event("signed-out"));
}

// stream keeps a live stream open while the page can be seen. A browser holds
// few connections to one service, so pages in the background give theirs back.
function stream(url: () => string, begin: (s: EventSource) => void, silent?: () => boolean): () => void {
  let source: EventSource | undefined;
  const open = () => {
    if (source || document.hidden) return;
    source = new EventSource(url());
    begin(source);
  };
  const close = () => {
    source?.close();
    source = undefined;
  };
  const look = () => (document.hidden ? close() : open());
  document.addEventListener("visibilitychange", look);
  window.addEventListener("pagehide", close);
  window.addEventListener("pageshow", look);
  // The browser gives up on some errors; begin again.
  const watchdog = window.setInterval(() => {
    const refused = source?.readyState === EventSource.CLOSED;
    if (refused || silent?.()) close();
    if (refused) askWhetherSignedIn();
    look();
  }, 2000);
  open();
  return () => {
    window.clearInterval(watchdog);
    document.removeEventListener("visibilitychange", look);
    window.removeEventListener("pagehide", close);
    window.removeEventListener("pageshow", look);
    close();
  };
}

// Patch is a JSON merge patch (RFC 7396) of one device.
type Patch = { id: string } & Record<string, unknown>;

// merge applies a merge patch. What did not change stays the same object, so that
// nothing is drawn again for it.
export function merge(old: unknown, patch: unknown): unknown {
  if (patch === null || typeof patch !== "object" || Array.isArray(patch)) return patch;
  const base = old !== null && typeof old === "object" && !Array.isArray(old) ? old : {};
  const out: Record<string, unknown> = { ...base };
  for (const [k, v] of Object.entries(patch)) {
    if (v === null) delete out[k];
    else out[k] = merge(out[k], v);
  }
  return out;
}

const staleAfter = 7000;

// Happening is something that was done, so that what shows it is asked for again.
export interface Happening {
  kind: string;
  device?: string;
  alarm?: string;
  rule?: string;
}
// missed is the kind of what was done while the stream was not open: nobody knows what.
export const missed = "missed";
const hearers = new Set<(facts: Happening[]) => void>();

// onHappened calls heard with what was done, until the result is called.
export function onHappened(heard: (facts: Happening[]) => void): () => void {
  hearers.add(heard);
  return () => hearers.delete(heard);
}

// What has changed while pages stand still; it is not read before they go on, within bounds.
let waiting: string[] = [];
const mostWaiting = 100;

function takeWaiting() {
  const devices = new Map(fleet.devices);
  for (const text of waiting) {
    const changed = JSON.parse(text) as { devices: Device[]; patches: Patch[]; gone: string[] };
    for (const d of changed.devices) devices.set(d.id, d);
    for (const p of changed.patches) devices.set(p.id, merge(devices.get(p.id), p) as Device);
    for (const id of changed.gone) devices.delete(id);
  }
  waiting = [];
  set({ devices, state: "live", heardAt: Date.now() });
}

// startLive keeps the fleet up to date until the result is called.
export function startLive(): () => void {
  let cursor = "";
  let opened = false;
  const stop = stream(
    () => `/api/v1/live?units=own${cursor ? `&after=${cursor}` : ""}`,
    (source) => {
      set({ heardAt: Date.now() });
      let coming = new Map<string, Device>();
      source.addEventListener("open", () => {
        coming = new Map(); // also when it comes again
        if (opened) hearers.forEach((f) => f([{ kind: missed }]));
        opened = true;
      });
      source.addEventListener("whole", (e) => {
        const { devices, more } = JSON.parse(e.data) as { devices: Device[]; more?: boolean };
        for (const d of devices) coming.set(d.id, d);
        if (more) {
          if (Date.now() - fleet.heardAt > 250) set({ coming: coming.size, heardAt: Date.now() });
          return;
        }
        cursor = e.lastEventId;
        waiting = []; // it is in what came
        set({ devices: coming, coming: 0, state: "live", heardAt: Date.now() });
        coming = new Map();
      });
      source.addEventListener("changes", (e) => {
        cursor = e.lastEventId;
        waiting.push(e.data as string);
        if (paused && waiting.length < mostWaiting) set({ heardAt: Date.now() });
        else takeWaiting();
      });
      source.addEventListener("happened", (e) => {
        const { facts } = JSON.parse(e.data) as { facts: Happening[] };
        hearers.forEach((f) => f(facts));
      });
      source.addEventListener("pulse", (e) => {
        set({ service: JSON.parse(e.data).service, state: "live", heardAt: Date.now() });
      });
      source.addEventListener("error", () => set({ state: "stale" }));
    },
    () => {
      if (Date.now() - fleet.heardAt < staleAfter) return false;
      if (!document.hidden && fleet.state === "live") set({ state: "stale" });
      return fleet.state === "stale" && Date.now() - fleet.heardAt > 3 * staleAfter;
    },
  );
  return () => {
    stop();
    waiting = [];
    fleet = nothing;
    all = fleet.devices;
  };
}

function listen(f: () => void) {
  listeners.add(f);
  return () => listeners.delete(f);
}

// fleetNow is the fleet as it is, for what only begins with it.
export const fleetNow = (): Fleet => fleet;

export function useFleet(): Fleet {
  return useSyncExternalStore(listen, () => fleet);
}

// useDevices gives all devices as a page about all of them shows them.
export function useDevices(): ReadonlyMap<string, Device> {
  return useSyncExternalStore(listen, () => all);
}

// watchTraffic calls heard with messages as they pass, until the result is called.
export function watchTraffic(
  device: string,
  where: string,
  heard: (entries: TrafficEntry[]) => void,
): () => void {
  const query = new URLSearchParams({ only: "traffic", device, where });
  return stream(
    () => `/api/v1/live?${query}`,
    (s) => s.addEventListener("traffic", (e) => heard(JSON.parse(e.data).entries)),
  );
}

// Conditions that something on the page watches. All of them share one stream, since a
// browser keeps few connections to a server.
type HearMatching = (ids: ReadonlySet<string>, wrong?: string) => void;
const watched = new Map<string, { heard: Set<HearMatching>; ids?: ReadonlySet<string>; wrong?: string }>();
const mostWatched = 60;
let closeMatching: (() => void)[] = [];
let asked = "";
let again = 0;

// watchMatching calls heard with the devices for which a condition is true, or with what is wrong
// with it, until the result is called.
export function watchMatching(where: string, heard: HearMatching): () => void {
  const held = watched.get(where) ?? { heard: new Set() };
  watched.set(where, held);
  held.heard.add(heard);
  const known = held.ids;
  if (known) window.setTimeout(() => held.heard.has(heard) && heard(known, held.wrong));
  window.clearTimeout(again);
  again = window.setTimeout(openMatching, 20); // a page brings many at once
  return () => {
    held.heard.delete(heard);
    if (held.heard.size > 0) return;
    window.clearTimeout(again);
    again = window.setTimeout(openMatching, 1000); // the next page may want the same
  };
}

function openMatching() {
  // What nobody wants any more goes only now: what left a page and came back with the next has
  // what it knew, and the stream that stays open does not tell it again.
  for (const [where, { heard }] of watched) if (heard.size === 0) watched.delete(where);
  const all = [...watched.keys()];
  const next = JSON.stringify(all);
  if (next === asked) return;
  asked = next;
  for (const close of closeMatching) close();
  closeMatching = [];
  for (let i = 0; i < all.length; i += mostWatched)
    closeMatching.push(matchEach(all.slice(i, i + mostWatched)));
}

function matchEach(conditions: string[]): () => void {
  const query = new URLSearchParams({ only: "matching" });
  for (const c of conditions) query.append("each", c);
  return stream(
    () => `/api/v1/live?${query}`,
    (s) => {
      let first = new Set(conditions.keys());
      s.addEventListener("open", () => (first = new Set(conditions.keys())));
      s.addEventListener("matching", (e) => {
        const { of, devices, gone, wrong } = JSON.parse(e.data) as Schemas["Matched"];
        const held = watched.get(conditions[of]);
        if (!held) return;
        const ids = new Set(first.delete(of) ? [] : held.ids);
        for (const id of devices) ids.add(id);
        for (const id of gone) ids.delete(id);
        held.ids = ids;
        held.wrong = wrong;
        for (const heard of held.heard) heard(ids, wrong);
      });
    },
  );
}
