import { useQuery } from "@tanstack/react-query";
import { api, ask, type LimitAhead } from "./client";

// useForecast asks what probably comes of one metric of a device.
export function useForecast(device: string, metric: string, ahead: string, enabled: boolean) {
  return useQuery({
    queryKey: ["forecast", device, metric, ahead],
    enabled: enabled && ahead !== "",
    refetchInterval: 60_000,
    retry: false,
    queryFn: () =>
      ask(api.GET("/api/v1/forecast", { params: { query: { device: [device], metric: [metric], ahead } } })),
  });
}

// firstLimit is the limit that a forecast gets to first, or may get to first.
export function firstLimit(limits: LimitAhead[] | undefined): LimitAhead | undefined {
  const when = (r: LimitAhead) =>
    r.likely ? Date.parse(r.likely) : r.early ? Date.parse(r.early) + 1e12 : Infinity;
  return limits?.length ? [...limits].sort((a, b) => when(a) - when(b))[0] : undefined;
}
