import { useSyncExternalStore } from "react";
import type { Device, Service, WireEntry } from "./client";

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
let source: EventSource | undefined;
let watchdog: number | undefined;

function set(next: Partial<Fleet>) {
  fleet = { ...fleet, ...next };
  listeners.forEach((f) => f());
}

export function startLive() {
  if (source) return;
  source = new EventSource("/api/v1/live");
  let first = true;
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
  watchdog = window.setInterval(() => {
    if (fleet.state === "live" && Date.now() - fleet.heardAt > 7000) set({ state: "stale" });
    // The browser gives up on some errors; begin again.
    if (source?.readyState === EventSource.CLOSED) {
      stopLive();
      startLive();
    }
  }, 2000);
}

export function stopLive() {
  source?.close();
  source = undefined;
  window.clearInterval(watchdog);
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

// watchWire calls heard with messages as they pass, until the result is called.
export function watchWire(device: string, heard: (entries: WireEntry[]) => void): () => void {
  const s = new EventSource(`/api/v1/live?wire=true&device=${encodeURIComponent(device)}`);
  s.addEventListener("wire", (e) => heard(JSON.parse(e.data).entries));
  return () => s.close();
}
