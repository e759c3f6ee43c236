import {
  useLayoutEffect,
  useRef,
  useState,
  type KeyboardEvent,
  type PointerEvent,
  type RefObject,
} from "react";
import { Link } from "react-router";
import type { Device } from "../api/client";
import { called, number } from "../lib/format";
import { planOf } from "../lib/place";
import { Vessel, worst } from "./vessel";

// useWidth is how wide an element is, in pixels.
function useWidth(of: RefObject<HTMLElement | null>): number {
  const [width, setWidth] = useState(600);
  useLayoutEffect(() => {
    const el = of.current;
    if (!el) return;
    const watch = new ResizeObserver(() => setWidth(el.clientWidth));
    watch.observe(el);
    return () => watch.disconnect();
  }, [of]);
  return width;
}

// middle is where a device begins that is moved with the keys before it was placed.
export const middle = [50, 50] as const;

export type Places = Record<string, readonly number[]>;

// PlacedValue is a value that stands on a plan by itself, under a key of its places.
export interface PlacedValue {
  key: string;
  device: Device;
  metric: string;
  text: string; // with its unit
}

// PlanPicture is the picture of a site with its devices where they stand. With onPlace they are put
// there: dragged, or moved with the arrow keys.
export function PlanPicture({
  site,
  devices,
  at,
  width,
  version,
  values = [],
  onPlace,
  onBroken,
}: {
  site: string;
  devices: readonly Device[];
  at: Places;
  width: (ratio: number) => string; // of the picture, by its width over its height
  version?: number; // changes with the picture
  values?: readonly PlacedValue[];
  // To where from where it is; from the middle for one that is not placed yet.
  onPlace?: (id: string, move: (from: readonly number[]) => [number, number]) => void;
  onBroken?: () => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const [dragged, setDragged] = useState<{ id: string; at: [number, number] }>();
  const [ratio, setRatio] = useState(1.5);
  const wide = useWidth(box);
  const root = parseFloat(getComputedStyle(document.documentElement).fontSize) / 16;
  const size = Math.min(44, Math.max(11, wide / root / 27)); // of a vessel
  const placed = devices.filter((d) => at[d.id] || dragged?.id === d.id);
  const free = devices.filter((d) => !placed.includes(d));
  const percent = (v: number) => Math.round(Math.min(100, Math.max(0, v)) * 10) / 10;
  const where = (e: PointerEvent): [number, number] => {
    const r = box.current!.getBoundingClientRect();
    return [percent((100 * (e.clientX - r.left)) / r.width), percent((100 * (e.clientY - r.top)) / r.height)];
  };
  const grip = (d: { id: string }, name: string) =>
    onPlace && {
      tabIndex: 0,
      role: "button",
      "aria-label": `${name}: drag it, or move it with the arrow keys`,
      onPointerDown: (e: PointerEvent) => {
        e.preventDefault();
        e.currentTarget.setPointerCapture(e.pointerId);
        setDragged({ id: d.id, at: at[d.id] ? [at[d.id][0], at[d.id][1]] : where(e) });
      },
      onPointerMove: (e: PointerEvent) => dragged?.id === d.id && setDragged({ id: d.id, at: where(e) }),
      onPointerUp: (e: PointerEvent) => {
        if (dragged?.id !== d.id) return;
        setDragged(undefined);
        const to = where(e);
        onPlace(d.id, () => to);
      },
      onKeyDown: (e: KeyboardEvent) => {
        const step = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[e.key];
        if (!step) return;
        e.preventDefault();
        onPlace(d.id, ([left, top]) => [percent(left + step[0]), percent(top + step[1])]);
      },
    };
  return (
    <>
      <div ref={box} className="relative touch-none" style={{ aspectRatio: ratio, width: width(ratio) }}>
        <img
          src={planOf(site) + (version ? `?v=${version}` : "")}
          alt={`Plan of ${site}`}
          draggable={false}
          onLoad={(e) => {
            const { naturalWidth: w, naturalHeight: h } = e.currentTarget;
            if (w > 0 && h > 0) setRatio(w / h);
          }}
          onError={onBroken}
          className="block size-full"
        />
        {placed.map((d) => {
          const [left, top] = dragged?.id === d.id ? dragged.at : at[d.id];
          return (
            <span
              key={d.id}
              className={`absolute -translate-1/2 ${onPlace ? "cursor-grab" : ""}`}
              style={{ left: `${left}%`, top: `${top}%` }}
              title={d.id}
              {...grip(d, called(d))}
            >
              {onPlace ? (
                <Vessel device={d} width={size} />
              ) : (
                <Link to={`/devices/${d.id}`} aria-label={`${called(d)}, ${d.health ?? d.status}`}>
                  <Vessel device={d} width={size} />
                </Link>
              )}
            </span>
          );
        })}
        {values.map((v) => {
          const [left, top] = dragged?.id === v.key ? dragged.at : (at[v.key] ?? middle);
          const state = worst(v.device)?.priority;
          return (
            <span
              key={v.key}
              className={`absolute -translate-1/2 rounded-[4px] bg-ground/85 px-1 font-semibold whitespace-nowrap ${onPlace ? "cursor-grab" : ""}`}
              style={{
                left: `${left}%`,
                top: `${top}%`,
                fontSize: `${Math.max(0.75, size / 24)}rem`,
                color: state ? `var(--${state})` : undefined,
              }}
              title={`${v.metric} of ${v.device.id}`}
              {...grip({ id: v.key }, `${v.metric} of ${called(v.device)}`)}
            >
              {onPlace ? (
                v.text
              ) : (
                <Link
                  to={`/devices/${v.device.id}`}
                  aria-label={`${v.metric} of ${called(v.device)}: ${v.text}`}
                >
                  {v.text}
                </Link>
              )}
            </span>
          );
        })}
      </div>
      {free.length > 0 && (
        <p className="flex flex-wrap items-center gap-1.5 pt-1 text-muted">
          {onPlace ? "not placed:" : `${number(free.length)} not placed`}
          {onPlace &&
            free.slice(0, 40).map((d) => (
              <span key={d.id} className="cursor-grab" title={d.id} {...grip(d, called(d))}>
                <Vessel device={d} width={16} badge={false} />
              </span>
            ))}
        </p>
      )}
    </>
  );
}
