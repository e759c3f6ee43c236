import { useSyncExternalStore } from "react";
import type { Device, Service, TrafficEntry } from "./client";

// The fleet as the live stream tells it. Pages read it and never ask again.
export interface Fleet {
  devices: ReadonlyMap<string, Device>;
  service?: Service;
  // state is "live" while the stream speaks, "stale" when it has stopped.
  state: "connecting" | "live" | "stale";
  heardAt: number;
}

let fleet: Fleet = { devices: new Map(), state: "connecting", heardAt: 0 };
const listeners = new Set<() => void>();

function set(next: Partial<Fleet>) {
  fleet = { ...fleet, ...next };
  listeners.forEach((f) => f());
}

// stream keeps a live stream open while the page can be seen. A browser holds
// few connections to one service, so pages in the background give theirs back.
function stream(url: string, begin: (s: EventSource) => void, silent?: () => boolean): () => void {
  let source: EventSource | undefined;
  const open = () => {
    if (source || document.hidden) return;
    source = new EventSource(url);
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
    if (source?.readyState === EventSource.CLOSED || silent?.()) close();
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

const staleAfter = 7000;

// startLive keeps the fleet up to date until the result is called.
export function startLive(): () => void {
  const stop = stream(
    "/api/v1/live",
    (source) => {
      let first = true;
      set({ heardAt: Date.now() });
      source.addEventListener("open", () => (first = true));
      source.addEventListener("devices", (e) => {
        const changed = JSON.parse(e.data).devices as Device[];
        // The first message of a stream is the whole fleet.
        const devices = first ? new Map<string, Device>() : new Map(fleet.devices);
        first = false;
        for (const d of changed) devices.set(d.id, d);
        set({ devices, state: "live", heardAt: Date.now() });
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
    fleet = { devices: new Map(), state: "connecting", heardAt: 0 };
  };
}

export function useFleet(): Fleet {
  return useSyncExternalStore(
    (f) => {
      listeners.add(f);
      return () => listeners.delete(f);
    },
    () => fleet,
  );
}

// watchTraffic calls heard with messages as they pass, until the result is called.
export function watchTraffic(
  device: string,
  where: string,
  heard: (entries: TrafficEntry[]) => void,
): () => void {
  const query = new URLSearchParams({ only: "traffic", device, where });
  return stream(`/api/v1/live?${query}`, (s) =>
    s.addEventListener("traffic", (e) => heard(JSON.parse(e.data).entries)),
  );
}
