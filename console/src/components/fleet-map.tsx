import { geoMercator, geoPath, type GeoProjection } from "d3-geo";
import { Minus, Plus } from "lucide-react";
import { memo, useEffect, useMemo, useRef, useState, type KeyboardEvent, type PointerEvent } from "react";
import { Link } from "react-router";
import { feature, mesh } from "topojson-client";
import land110 from "world-atlas/countries-110m.json";
import type { Device, OpenAlarm } from "../api/client";
import { pauseFleet } from "../api/live";
import { calling } from "../lib/alarms";
import { number, plural, rank } from "../lib/format";
import type { Times } from "../lib/history";
import { clustered, positionOf, type Cluster, type LonLat } from "../lib/map";
import { severityOf } from "../lib/need";
import { usePlaces } from "../lib/place";
import { Badge } from "./badge";
import { Placing } from "./map-placing";
import { usePositionMetrics, Ways } from "./map-ways";

type World = Parameters<typeof feature>[0];
type Shape = Parameters<typeof feature>[1];

interface View {
  x: number; // of the middle, in the coordinates of the projection
  y: number;
  scale: number;
}

// nearest is the largest scale that somebody can zoom to, and fitting that with which it begins:
// some fifty kilometres across.
const nearest = 60_000;
const fitting = 6000;

// useWorld is the shapes of the land: coarse at once, finer when somebody has come close.
function useWorld(fine: boolean) {
  const [world, setWorld] = useState<unknown>(land110);
  const asked = useRef(false);
  useEffect(() => {
    if (!fine || asked.current) return;
    asked.current = true;
    void import("world-atlas/countries-50m.json").then((m) => setWorld(m.default));
  }, [fine]);
  return world as World;
}

// useLakes are the lakes; they come after the land.
function useLakes() {
  const [lakes, setLakes] = useState<GeoJSON.MultiPolygon>();
  useEffect(() => {
    void import("virtual:lakes").then((m) => setLakes(m.default));
  }, []);
  return lakes;
}

const every = 2000; // ms between two looks at what has changed

// useSteady is what is given as it was a moment ago, so that ten thousand devices are not laid out
// anew with each of their readings; while somebody drags it stays.
function useSteady(given: readonly Device[], hold: boolean): readonly Device[] {
  const [shown, setShown] = useState(given);
  const newest = useRef(given);
  useEffect(() => {
    newest.current = given;
  });
  useEffect(() => {
    if (hold) return;
    const look = setInterval(() => setShown(newest.current), every);
    return () => clearInterval(look);
  }, [hold]);
  // What comes first, goes, or is filtered is seen at once.
  const same =
    shown.length === given.length && shown[0]?.id === given[0]?.id && shown.at(-1)?.id === given.at(-1)?.id;
  return hold || same ? shown : given;
}

// FleetMap shows where devices are, those that stand together as one, over the land, its borders and
// lakes, which the service brings itself; and the ways of those that move, over some times.
export default function FleetMap({
  devices: given,
  where,
  times,
  placing = false,
}: {
  devices: readonly Device[];
  where: string; // that chooses them
  times: Times;
  placing?: boolean; // whether devices may be put somewhere else here
}) {
  const [dragging, setDragging] = useState(false);
  const devices = useSteady(given, dragging);
  useEffect(() => {
    pauseFleet(dragging);
    return () => pauseFleet(false);
  }, [dragging]);
  const places = usePlaces();
  const metrics = usePositionMetrics();
  const holder = useRef<HTMLDivElement>(null);
  const [size, setSize] = useState({ w: 0, h: 0 });
  useEffect(() => {
    const watch = new ResizeObserver(([e]) => setSize({ w: e.contentRect.width, h: e.contentRect.height }));
    watch.observe(holder.current!);
    return () => watch.disconnect();
  }, []);
  const sites = useMemo(() => {
    const out = new Map<string, LonLat>();
    for (const s of places.data?.items ?? [])
      if (s.latitude !== undefined && s.longitude !== undefined) out.set(s.site, [s.longitude, s.latitude]);
    return out;
  }, [places.data]);
  const projection = useMemo<GeoProjection>(() => geoMercator().scale(100).translate([0, 0]), []);
  const points = useMemo(
    () =>
      devices.flatMap((d) => {
        const at = positionOf(d, sites, metrics);
        const p = at && projection(at);
        return p ? [{ d, x: p[0], y: p[1] }] : [];
      }),
    [devices, sites, metrics, projection],
  );
  const without = devices.length - points.length;
  // It begins with all of them in sight.
  const whole = useMemo<View | undefined>(() => {
    if (points.length === 0 || size.w === 0) return undefined;
    const xs = points.map((p) => p.x);
    const ys = points.map((p) => p.y);
    const [x0, x1, y0, y1] = [xs, ys].flatMap((v) => [
      v.reduce((a, b) => Math.min(a, b)),
      v.reduce((a, b) => Math.max(a, b)),
    ]);
    const room = 120;
    const scale = Math.min(
      (size.w - room) / Math.max(x1 - x0, 1e-9),
      (size.h - room) / Math.max(y1 - y0, 1e-9),
      fitting,
    );
    return { x: (x0 + x1) / 2, y: (y0 + y1) / 2, scale: Math.max(scale, 0.5) };
  }, [points, size]);
  const [moved, setMoved] = useState<View>();
  const view = moved ?? whole;
  const world = useWorld((view?.scale ?? 0) > 6);
  const lakes = useLakes();
  const shapes = useMemo(() => {
    const path = geoPath(projection);
    const countries = (world as unknown as { objects: { countries: Shape } }).objects.countries;
    return {
      land: path(feature(world, countries)) ?? "",
      borders: path(mesh(world, countries as Parameters<typeof mesh>[1], (a, b) => a !== b)) ?? "",
    };
  }, [world, projection]);
  const water = useMemo(() => (lakes ? (geoPath(projection)(lakes) ?? "") : ""), [lakes, projection]);
  const scale = view?.scale ?? 1;
  // Clusters follow the scale in steps, so that they do not change with every turn of a wheel.
  const step = 2 ** (Math.round(Math.log2(scale) * 2) / 2);
  const clusters = useMemo(() => clustered(points, step), [points, step]);
  const zoom = (by: number, at?: { x: number; y: number }) => {
    if (!view) return;
    const next = Math.min(Math.max(view.scale * by, 0.5), nearest);
    const x = at ? view.x + (at.x - size.w / 2) / view.scale : view.x;
    const y = at ? view.y + (at.y - size.h / 2) / view.scale : view.y;
    const k = view.scale / next;
    setMoved({ x: x + (view.x - x) * k, y: y + (view.y - y) * k, scale: next });
  };
  const live = useRef(zoom);
  useEffect(() => {
    live.current = zoom;
  });
  useEffect(() => {
    const el = holder.current!;
    // The wheel scrolls the page, unless somebody holds Ctrl or has the map in hand.
    const wheel = (e: WheelEvent) => {
      if (!e.ctrlKey && !e.metaKey && document.activeElement !== el) return;
      e.preventDefault();
      const r = el.getBoundingClientRect();
      live.current(2 ** (-e.deltaY / 300), { x: e.clientX - r.left, y: e.clientY - r.top });
    };
    el.addEventListener("wheel", wheel, { passive: false });
    return () => el.removeEventListener("wheel", wheel);
  }, []);
  const held = useRef<{ x: number; y: number; view: View }>(undefined);
  const pan = (dx: number, dy: number) =>
    view && setMoved({ ...view, x: view.x + dx / view.scale, y: view.y + dy / view.scale });
  const letGo = () => {
    held.current = undefined;
    setDragging(false);
  };
  const keys = (e: KeyboardEvent) => {
    const act: Record<string, () => void> = {
      ArrowLeft: () => pan(-60, 0),
      ArrowRight: () => pan(60, 0),
      ArrowUp: () => pan(0, -60),
      ArrowDown: () => pan(0, 60),
      "+": () => zoom(1.5),
      "-": () => zoom(1 / 1.5),
      Home: () => setMoved(undefined),
    };
    if (e.target === e.currentTarget && act[e.key]) {
      e.preventDefault();
      act[e.key]();
    }
  };
  // What stands on the map is laid out about the middle of a tile, and moves as one with it, so that
  // dragging draws nothing anew.
  const middle = view && {
    x: (Math.round((view.x * scale) / tile) * tile) / scale,
    y: (Math.round((view.y * scale) / tile) * tile) / scale,
  };
  const button =
    "flex size-8 items-center justify-center border border-line bg-surface text-ink hover:border-muted";
  return (
    <div className="flex h-full min-h-0 flex-col">
      <div
        ref={holder}
        tabIndex={0}
        role="group"
        aria-label={`Map of ${plural(points.length, "device")}; arrow keys move it, plus and minus zoom, Home shows all`}
        onKeyDown={keys}
        onPointerDown={(e: PointerEvent) => {
          if (!view || (e.target as Element).closest("a,button")) return;
          (e.currentTarget as Element).setPointerCapture(e.pointerId);
          held.current = { x: e.clientX, y: e.clientY, view };
          setDragging(true);
        }}
        onPointerMove={(e: PointerEvent) => {
          const h = held.current;
          if (h)
            setMoved({
              ...h.view,
              x: h.view.x - (e.clientX - h.x) / h.view.scale,
              y: h.view.y - (e.clientY - h.y) / h.view.scale,
            });
        }}
        onPointerUp={letGo}
        onPointerCancel={letGo}
        className="relative min-h-40 flex-1 cursor-grab touch-none overflow-hidden border border-line bg-surface active:cursor-grabbing"
      >
        {view && (
          <svg width={size.w} height={size.h} aria-hidden="true" className="absolute inset-0">
            <g
              transform={`translate(${size.w / 2 - view.x * view.scale} ${size.h / 2 - view.y * view.scale}) scale(${view.scale})`}
            >
              <path
                d={shapes.land}
                fill="var(--ground)"
                stroke="var(--line)"
                vectorEffect="non-scaling-stroke"
              />
              <path d={water} fill="var(--surface)" stroke="var(--line)" vectorEffect="non-scaling-stroke" />
              <path
                d={shapes.borders}
                fill="none"
                stroke="var(--muted)"
                strokeOpacity="0.45"
                vectorEffect="non-scaling-stroke"
              />
              <Ways devices={devices} where={where} times={times} metrics={metrics} projection={projection} />
            </g>
          </svg>
        )}
        {view && middle && (
          <div
            className="absolute inset-0"
            style={{
              transform: `translate(${(middle.x - view.x) * scale}px, ${(middle.y - view.y) * scale}px)`,
            }}
          >
            <Spots clusters={clusters} x={middle.x} y={middle.y} scale={scale} w={size.w} h={size.h} />
          </div>
        )}
        {placing && view && (
          <Placing
            devices={devices}
            at={(d) => positionOf(d, sites, metrics)}
            toScreen={(p) => {
              const [x, y] = projection(p)!;
              return [(x - view.x) * scale + size.w / 2, (y - view.y) * scale + size.h / 2];
            }}
            toEarth={(left, top) =>
              projection.invert!([view.x + (left - size.w / 2) / scale, view.y + (top - size.h / 2) / scale])!
            }
            middle={[size.w / 2, size.h / 2]}
            onShow={(p) => {
              const [x, y] = projection(p)!;
              setMoved({ x, y, scale: Math.max(scale, fitting) });
            }}
          />
        )}
        <div className="absolute top-2 right-2 flex flex-col">
          <button type="button" aria-label="Closer" className={button} onClick={() => zoom(1.8)}>
            <Plus size={16} aria-hidden />
          </button>
          <button
            type="button"
            aria-label="Wider"
            className={`${button} border-t-0`}
            onClick={() => zoom(1 / 1.8)}
          >
            <Minus size={16} aria-hidden />
          </button>
          {moved && (
            <button
              type="button"
              className={`${button} mt-2 !w-auto px-2 text-[0.8125rem]`}
              onClick={() => setMoved(undefined)}
            >
              all
            </button>
          )}
        </div>
        {points.length === 0 && (
          <p className="absolute inset-0 flex items-center justify-center p-6 text-center text-muted">
            {places.isPending
              ? "Loading…"
              : "No device has a position: give its site a latitude and a longitude, or have it report them."}
          </p>
        )}
      </div>
      {without > 0 && points.length > 0 && (
        <p className="pt-1 text-muted">
          {plural(without, "device")} without a position:{" "}
          {without === 1 ? "its site has" : "their sites have"} none.
        </p>
      )}
    </div>
  );
}

const tile = 512;

// Spots are the clusters of the tile and those around it.
const Spots = memo(function Spots({
  clusters,
  x,
  y,
  scale,
  w,
  h,
}: {
  clusters: readonly Cluster[];
  x: number;
  y: number;
  scale: number;
  w: number;
  h: number;
}) {
  const room = tile / 2 + 60;
  return clusters.map((c) => {
    const left = (c.x - x) * scale + w / 2;
    const top = (c.y - y) * scale + h / 2;
    if (left < -room || top < -room || left > w + room || top > h + room) return null;
    return <Spot key={[...c.sites].join() + c.devices[0].id} c={c} left={left} top={top} />;
  });
});

const named = 3; // sites that stand under a spot by name

// Spot is what stands at one place: how many, and what is wrong with the worst of them.
function Spot({ c, left, top }: { c: Cluster; left: number; top: number }) {
  let first = c.devices[0];
  let alarm: OpenAlarm | undefined;
  let wrong = 0;
  for (const d of c.devices) {
    const severity = severityOf(d);
    if (severity < severityOf(first)) first = d;
    if (severity < 2) wrong++;
    if (d.alarms.length > 0)
      for (const a of calling(d.alarms)) if (!alarm || rank(a.priority) < rank(alarm.priority)) alarm = a;
  }
  const dark = first.health === "dark";
  const one = c.devices.length === 1;
  const name = one
    ? first.id
    : c.sites.size > named
      ? plural(c.sites.size, "site")
      : [...c.sites].sort().join(", ") || plural(c.devices.length, "device");
  const where =
    c.sites.size > 0 ? [...c.sites].map((s) => `label.site == ${JSON.stringify(s)}`).join(" or ") : "";
  const size = Math.min(44, 22 + 6 * Math.log2(c.devices.length));
  return (
    <Link
      to={one ? `/devices/${first.id}` : `/?view=list&where=${encodeURIComponent(where)}`}
      className="group absolute -translate-1/2 text-center"
      style={{ left, top }}
      aria-label={`${name}: ${plural(c.devices.length, "device")}, ${wrong === 0 ? "none of them poor or dark" : `${number(wrong)} poor or dark`}`}
    >
      <span
        className={`relative mx-auto flex items-center justify-center rounded-full border-2 bg-surface font-semibold tabular-nums group-hover:border-press ${dark ? "border-dashed border-muted" : "border-muted/70"}`}
        style={{ width: size, height: size, borderColor: alarm ? `var(--${alarm.priority})` : undefined }}
      >
        {number(c.devices.length)}
        {alarm && (
          <span className="absolute -top-2 -right-2">
            <Badge priority={alarm.priority} size={18} />
          </span>
        )}
      </span>
      <span className="mt-0.5 block rounded-[3px] bg-surface/85 px-1 text-[0.8125rem] whitespace-nowrap">
        {name}
      </span>
    </Link>
  );
}
