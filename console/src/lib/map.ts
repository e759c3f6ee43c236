import type { Device, Model } from "../api/client";

// PositionMetrics are the metrics or attributes with which devices of a model say where they are.
export interface PositionMetrics {
  latitude: string;
  longitude: string;
}

const usual: PositionMetrics = { latitude: "latitude", longitude: "longitude" };

// positionMetrics finds them: those in lat and lon (SenML, RFC 8428), or that are called so.
export function positionMetrics(m: Pick<Model, "properties">): PositionMetrics {
  const of = (unit: string, name: string) =>
    (
      m.properties.find((p) => p.unit === unit && p.role !== "setting") ??
      m.properties.find((p) => p.name === name)
    )?.name ?? name;
  return { latitude: of("lat", usual.latitude), longitude: of("lon", usual.longitude) };
}

export type LonLat = [number, number];

// onEarth is a position that can be one. Nought and nought is that of a receiver without a fix.
export const onEarth = (lon: unknown, lat: unknown): LonLat | undefined =>
  typeof lon === "number" &&
  typeof lat === "number" &&
  (lon !== 0 || lat !== 0) &&
  Math.abs(lat) <= 85 &&
  Math.abs(lon) <= 180
    ? [lon, lat]
    : undefined;

// positionOf is where a device is: where it says itself, else where people have put it, else at its
// site.
export function positionOf(
  d: Device,
  sites: ReadonlyMap<string, LonLat>,
  metrics: ReadonlyMap<string, PositionMetrics>,
): LonLat | undefined {
  const of = metrics.get(d.model) ?? usual;
  const own = (name: string) => d.latest[name]?.value ?? d.attributes[name];
  return (
    onEarth(own(of.longitude), own(of.latitude)) ??
    (d.position && onEarth(d.position.longitude, d.position.latitude)) ??
    sites.get(d.labels.site ?? "")
  );
}

// Moves tells whether a device measures where it is, so that it has a way.
export const moves = (d: Device, metrics: ReadonlyMap<string, PositionMetrics>) =>
  d.latest[(metrics.get(d.model) ?? usual).latitude] !== undefined;

export interface Cluster {
  x: number;
  y: number;
  devices: Device[];
  sites: Set<string>;
}

export const apart = 46; // pixels between clusters

// clustered puts what stands close together into one: by cells of a grid, and then those of
// neighbouring cells, so that ten thousand devices cost a pass wherever they are.
export function clustered(points: readonly { d: Device; x: number; y: number }[], scale: number): Cluster[] {
  const cells = new Map<string, Cluster & { i: number; j: number }>();
  for (const p of points) {
    const i = Math.floor((p.x * scale) / apart);
    const j = Math.floor((p.y * scale) / apart);
    let c = cells.get(`${i} ${j}`);
    if (!c) cells.set(`${i} ${j}`, (c = { x: 0, y: 0, devices: [], sites: new Set(), i, j }));
    c.x += p.x;
    c.y += p.y;
    c.devices.push(p.d);
    if (p.d.labels.site) c.sites.add(p.d.labels.site);
  }
  const middle = (c: Cluster) => [c.x / c.devices.length, c.y / c.devices.length];
  const taken = new Map<string, Cluster>();
  const out: Cluster[] = [];
  for (const c of cells.values()) {
    const [x, y] = middle(c);
    let near: Cluster | undefined;
    for (let i = c.i - 1; i <= c.i + 1 && !near; i++)
      for (let j = c.j - 1; j <= c.j + 1 && !near; j++) {
        const o = taken.get(`${i} ${j}`);
        if (!o) continue;
        const [u, v] = middle(o);
        if (Math.hypot(u - x, v - y) * scale < apart * 0.8) near = o;
      }
    if (near) {
      near.x += c.x;
      near.y += c.y;
      near.devices.push(...c.devices);
      c.sites.forEach((s) => near.sites.add(s));
    } else out.push(c);
    taken.set(`${c.i} ${c.j}`, near ?? c);
  }
  return out.map((c) => ({ devices: c.devices, sites: c.sites, x: middle(c)[0], y: middle(c)[1] }));
}
