import { useQuery } from "@tanstack/react-query";
import type { GeoProjection } from "d3-geo";
import { useMemo } from "react";
import { api, ask, type Device } from "../api/client";
import { iso, type Times } from "../lib/history";
import { moves, onEarth, positionMetrics, type PositionMetrics } from "../lib/map";

// usePositionMetrics are, by model, the metrics that say where its devices are.
export function usePositionMetrics(): ReadonlyMap<string, PositionMetrics> {
  const models = useQuery({ queryKey: ["models"], queryFn: () => ask(api.GET("/api/v1/models")) });
  return useMemo(() => new Map((models.data ?? []).map((m) => [m.name, positionMetrics(m)])), [models.data]);
}

const most = 50; // ways that are drawn; of more none could be followed

// Ways draws where those that move have been, over some times. A gap is not bridged.
export function Ways({
  devices,
  where,
  times,
  metrics,
  projection,
}: {
  devices: readonly Device[];
  where: string;
  times: Times;
  metrics: ReadonlyMap<string, PositionMetrics>;
  projection: GeoProjection;
}) {
  const moving = useMemo(() => devices.filter((d) => moves(d, metrics)), [devices, metrics]);
  const names = [...new Set(moving.flatMap((d) => Object.values(metrics.get(d.model) ?? {})))].sort();
  // What is asked moves on with the minute, not with the second.
  const span = `${iso(times.from)}..${iso(times.to)}`;
  const answer = useQuery({
    queryKey: ["ways", names.join(), where, span],
    enabled: names.length > 0 && moving.length <= most,
    placeholderData: (old) => old,
    retry: false,
    queryFn: () =>
      ask(
        api.GET("/api/v1/query", {
          params: { query: { metric: names, span, steps: 300, aggregate: "last", where: where || "true" } },
        }),
      ),
  });
  const ways = useMemo(() => {
    const lines = answer.data?.lines ?? [];
    return moving.map((d) => {
      const of = metrics.get(d.model)!;
      const steps = (name: string) => lines.find((l) => l.device === d.id && l.metric === name)?.steps ?? [];
      const lat = new Map(steps(of.latitude).map((s) => [s.at, s.value]));
      let path = "";
      for (const s of steps(of.longitude)) {
        const at = onEarth(s.value, lat.get(s.at));
        const p = at && projection(at);
        if (p) path += `${path === "" ? "M" : "L"}${p[0].toFixed(5)} ${p[1].toFixed(5)}`;
      }
      return { id: d.id, path };
    });
  }, [answer.data, moving, metrics, projection]);
  return ways.map((w, i) => (
    <path
      key={w.id}
      data-way={w.id}
      d={w.path}
      fill="none"
      stroke={`var(--line-${(i % 8) + 1})`}
      strokeWidth={2}
      strokeLinejoin="round"
      vectorEffect="non-scaling-stroke"
    />
  ));
}
