import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { api, ask, type Board, type Device, type Instrument, type Property } from "../api/client";
import { useDevicesSeen } from "./moment";
import type { AlarmSpan } from "../components/trace";
import { useMatching } from "../components/where";
import { iso, timesOf, type Times } from "./history";

// Seen is what an instrument needs to know of the board it stands on.
export interface Seen {
  where: string; // selector of the devices of the board, with what is chosen at the top
  times: Times;
  span: string;
  site?: string; // that is chosen at the top, or that the board is of
  now: number;
  asOf: boolean; // it is looked at as of a past moment, at now
}

// both joins two selectors; either may be empty.
export const both = (a: string | undefined, b: string | undefined) =>
  a && b ? `(${a}) and (${b})` : a || b || "";

const quoted = (s: string) => JSON.stringify(s);

// ofGroup is the selector of a group of devices, as a query names it: label=value, and none for
// those without the label.
export function ofGroup(group: string): string {
  const i = group.indexOf("=");
  const [label, value] = [`label.${group.slice(0, i)}`, group.slice(i + 1)];
  return value === "none" ? `${label} in ("", "none")` : `${label} == ${quoted(value)}`;
}

// chosenWhere is the selector of what is chosen at the top.
export function chosenWhere(parameters: readonly string[], value: (p: string) => string): string {
  return parameters
    .filter((p) => value(p) !== "")
    .map((p) => {
      const name = p === "device" ? "device.id" : p === "model" ? "device.model" : `label.${p}`;
      return `${name} == ${quoted(value(p))}`;
    })
    .join(" and ");
}

// choices are what there is to choose for a parameter.
export function choices(p: string, devices: Iterable<Device>): string[] {
  const out = new Set<string>();
  for (const d of devices) {
    const v = p === "device" ? d.id : p === "model" ? d.model : d.labels[p];
    if (v) out.add(v);
  }
  return [...out].sort((a, b) => a.localeCompare(b));
}

// seenBy is what an instrument sees of its board: its own devices and its own span.
export function seenBy(x: Instrument, s: Seen): Seen {
  return {
    ...s,
    where: both(s.where, x.devices),
    ...(x.span && { span: x.span, times: timesOf(x.span, s.now) }),
  };
}

// useChosen are the devices that a selector chooses now, those that need somebody first.
export function useChosen(where: string): { devices: Device[]; pending: boolean } {
  const all = useDevicesSeen();
  const { matching, pending } = useMatching(where);
  const chosen = useMemo(
    () =>
      pending
        ? []
        : [...all.values()].filter((d) => d.status !== "retired" && (!matching || matching.has(d.id))),
    [all, matching, pending],
  );
  // As long as none of them has changed they are the same, so that nothing is drawn anew.
  const [devices, setDevices] = useState(chosen);
  const same = devices.length === chosen.length && devices.every((d, i) => d === chosen[i]);
  if (!same) setDevices(chosen);
  return { devices: same ? devices : chosen, pending };
}

// useProperty is what the models say of a metric or setting of some devices: in the units that
// whoever looks prefers, or with asModel in those of the model, as settings of many are sent.
export function useProperty(name: string, devices: readonly Device[], asModel = false): Property | undefined {
  const models = useQuery({ queryKey: ["models"], queryFn: () => ask(api.GET("/api/v1/models")) });
  const of = useMemo(() => {
    const used = new Set(devices.map((d) => d.model));
    const having = (models.data ?? []).filter((m) => m.properties.some((p) => p.name === name));
    return having.find((m) => used.has(m.name)) ?? having[0];
  }, [models.data, devices, name]);
  const own = useQuery({
    queryKey: ["model", of?.name ?? ""],
    enabled: Boolean(of) && !asModel,
    staleTime: 60_000,
    queryFn: () => ask(api.GET("/api/v1/models/{name}", { params: { path: { name: of!.name } } })),
  });
  return (asModel ? of : own.data)?.properties.find((p) => p.name === name);
}

const mostModels = 20; // of which units are asked for at once

// useModelsOf are the properties of the models of some devices, in the units that whoever looks
// prefers.
export function useModelsOf(devices: readonly Device[]): ReadonlyMap<string, Property[]> {
  const names = useMemo(
    () => [...new Set(devices.map((d) => d.model))].sort().slice(0, mostModels),
    [devices],
  );
  return useQueries({
    queries: names.map((name) => ({
      queryKey: ["model", name],
      staleTime: 60_000,
      queryFn: () => ask(api.GET("/api/v1/models/{name}", { params: { path: { name } } })),
    })),
    combine: (answers) =>
      new Map(answers.flatMap((a) => (a.data ? [[a.data.name, a.data.properties] as const] : []))),
  });
}

// useLines asks for a metric of an instrument's devices over its span.
export function useLines(
  metrics: readonly string[],
  s: Seen,
  o: { aggregate?: string; groupBy?: string; steps?: number; step?: string; enabled?: boolean },
) {
  return useQuery({
    queryKey: [
      "query",
      "board",
      metrics.join(","),
      s.where,
      s.span,
      s.times.from,
      s.times.to,
      o.aggregate,
      o.groupBy,
      o.steps,
      o.step,
    ],
    enabled: o.enabled !== false && metrics.length > 0,
    // Of a day, a week or a month that goes on more comes, though its times stay.
    refetchInterval: !s.times.live && !s.asOf && s.times.to > s.now ? 60_000 : false,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      ask(
        api.GET("/api/v1/query", {
          params: {
            query: {
              metric: [...metrics],
              span: `${iso(s.times.from)}..${iso(s.times.to)}`,
              ...(o.step ? { step: o.step } : { steps: o.steps ?? 240 }),
              aggregate: (o.aggregate ?? "mean") as "mean",
              where: s.where || "true",
              ...(o.groupBy && {
                group_by: o.groupBy,
                then: (["min", "max", "sum", "count"].includes(o.aggregate ?? "")
                  ? o.aggregate
                  : "mean") as "mean",
              }),
            },
          },
        }),
      ),
  });
}

// useAlarmsOf are the alarms of one device on a metric, as spans of time; none without one.
export function useAlarmsOf(d: Device | undefined, metric: string, now: number): AlarmSpan[] {
  const answer = useQuery({
    queryKey: ["alarms", d?.id, "all", d?.alarms.map((a) => a.id + a.state).join()],
    enabled: d !== undefined,
    retry: false,
    queryFn: () =>
      ask(api.GET("/api/v1/alarms", { params: { query: { device: d!.id, all: true, limit: 500 } } })),
  });
  const minute = Math.ceil(now / 60_000) * 60;
  return useMemo(
    () =>
      (answer.data ?? [])
        .filter((a) => a.metric === metric)
        .map((a) => ({
          from: Date.parse(a.raised_at) / 1000,
          to: a.returned_at ? Date.parse(a.returned_at) / 1000 : minute,
          priority: a.priority,
          often: a.times > 1,
        })),
    [answer.data, metric, minute],
  );
}

// latestOf is the newest value of a metric of a device as a number, where it is not too old.
export function latestOf(d: Device, metric: string): number | undefined {
  const l = d.latest[metric];
  const v = typeof l?.value === "boolean" ? Number(l.value) : l?.value;
  return typeof v === "number" ? v : undefined;
}

// metricsOf are the metrics that a board shows.
export const metricsOf = (b: Board) => [
  ...new Set(
    b.instruments.flatMap((x) => [
      ...(x.metrics ?? []),
      ...Object.keys(x.at ?? {}).flatMap((k) => k.split("/").slice(1)), // values on a plan
      ...(x.columns ?? []).filter(isMetric),
    ]),
  ),
];

const notMetrics = new Set(["health", "link", "model", "headspace", "seen"]);

// isMetric tells whether a column of a roster is a metric.
export const isMetric = (c: string) => /^[A-Za-z_][A-Za-z0-9_-]*$/.test(c) && !notMetrics.has(c);

// bottom is the first row below everything on a board.
export const bottom = (b: Board) => Math.max(0, ...b.instruments.map((x) => x.place[1] + x.place[3]));
