import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { createContext, useContext, useMemo } from "react";
import { api, ask, listed, type Device } from "../api/client";
import { useDevices } from "../api/live";
import { expectedGap } from "./history";

// Moment is a past time that a page is looked at as of: its devices are those of then.
export interface Moment {
  at: number;
  devices: ReadonlyMap<string, Device>;
}

export const MomentContext = createContext<Moment | undefined>(undefined);

// useDevicesSeen are the devices now, or as they were where the page is of a past moment.
export function useDevicesSeen(): ReadonlyMap<string, Device> {
  const now = useDevices();
  return useContext(MomentContext)?.devices ?? now;
}

// useMoment asks for how all devices were at a time; nothing where at is 0.
export function useMoment(at: number, metrics: readonly string[]) {
  const now = useDevices();
  const rules = useQuery({
    queryKey: ["rules", ""],
    enabled: at > 0,
    queryFn: () => listed(api.GET("/api/v1/rules")),
  });
  const then = useQuery({
    queryKey: ["as-of", at, metrics.join(",")],
    enabled: at > 0,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () =>
      ask(
        api.GET("/api/v1/as-of", {
          params: { query: { at: new Date(at).toISOString(), metric: [...metrics].slice(0, 20) } },
        }),
      ),
  });
  const moment = useMemo<Moment | undefined>(() => {
    if (!then.data || at === 0) return undefined;
    const priority = new Map((rules.data?.items ?? []).map((r) => [r.rule, r.priority]));
    const devices = new Map<string, Device>();
    for (const d of then.data.devices) {
      if (!d.model) continue; // a group
      const today = now.get(d.id);
      const alarms = d.alarms
        .filter((a) => !["shelved", "suppressed", "out of service"].includes(a.state))
        .map((a) => ({
          id: a.id,
          rule: a.rule,
          state: a.state as Device["alarms"][number]["state"],
          message: "",
          priority: priority.get(a.rule) ?? "medium",
          raised_at: a.since,
        })) as Device["alarms"];
      // Of one that is here since later only its readings are known: without new ones it was silent.
      const newest = Math.max(0, ...Object.values(d.latest ?? {}).map((l) => Date.parse(l.at)));
      const quiet = newest > 0 && at - newest > expectedGap(today?.interval ?? "1min", 0);
      const link = d.link ?? (!d.later ? "never" : quiet ? "silent" : "online");
      const worst = alarms.map((a) => a.priority);
      const health: Device["health"] =
        d.status === "suspended" || d.status === "retired"
          ? undefined
          : link === "silent"
            ? "dark"
            : worst.some((p) => p === "urgent" || p === "high")
              ? "poor"
              : worst.length > 0
                ? "watch"
                : link === "never"
                  ? "awaited"
                  : "sound";
      devices.set(d.id, {
        ...(today ?? {
          attributes: {},
          applied: 0,
          interval: "1min",
          joined_at: "",
          model_title: d.model,
          revision: 0,
          refusals: 0,
        }),
        id: d.id,
        attributes: { ...today?.attributes, ...(d.firmware ? { firmware: d.firmware } : {}) },
        model: d.model,
        model_version: d.version ?? "",
        status: (d.status ?? "active") as Device["status"],
        labels: d.labels,
        link: link as Device["link"],
        health,
        alarms,
        drifting: [],
        reasons: [],
        margins: [],
        headspace: undefined,
        last_at: undefined,
        latest: (d.latest ?? {}) as Device["latest"],
      } as Device);
    }
    return { at, devices };
  }, [then.data, rules.data, now, at]);
  return { moment, pending: at > 0 && then.isPending, error: then.error };
}

// useMetricsOfEach chooses what to ask of a past moment: one metric of each model, of a rule
// where there is one, so that each device is known by its readings of then.
export function useMetricsOfEach(asked: boolean): readonly string[] {
  const live = useDevices();
  return useMemo(() => {
    const of = new Map<string, string>();
    if (asked)
      for (const d of live.values()) {
        const names = d.margins.length > 0 ? d.margins.map((m) => m.metric) : Object.keys(d.latest);
        const first = names.sort()[0];
        if (first && !(first > (of.get(d.model) ?? "~"))) of.set(d.model, first);
      }
    return [...new Set(of.values())].sort().slice(0, 20);
  }, [live, asked]);
}
