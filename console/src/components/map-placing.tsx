import { useRef, useState, type KeyboardEvent, type PointerEvent } from "react";
import { api, ask, type Device } from "../api/client";
import { called } from "../lib/format";
import type { LonLat } from "../lib/map";
import { useMay } from "../lib/me";
import { fieldLook } from "./field";
import { useTell } from "./notices";
import { Button } from "./parts";

// Placing puts a device somewhere else on the map: it is named, and its pin dragged, or moved by the
// arrow keys.
export function Placing({
  devices,
  at,
  toScreen,
  toEarth,
  middle,
  onShow,
}: {
  devices: readonly Device[];
  at: (d: Device) => LonLat | undefined;
  toScreen: (p: LonLat) => [number, number];
  toEarth: (left: number, top: number) => LonLat;
  middle: [number, number];
  onShow: (p: LonLat) => void;
}) {
  const may = useMay()("engineer", true);
  const tell = useTell();
  const [open, setOpen] = useState(false);
  const [id, setID] = useState("");
  const [to, setTo] = useState<LonLat>();
  const [wrong, setWrong] = useState("");
  const held = useRef<{ x: number; y: number; left: number; top: number }>(undefined);
  const device = devices.find((d) => d.id === id);
  if (!may) return null;
  if (!open)
    return (
      <div className="absolute top-2 left-2">
        <Button onClick={() => setOpen(true)}>Place a device…</Button>
      </div>
    );
  const choose = (typed: string) => {
    setID(typed);
    setWrong("");
    const d = devices.find((x) => x.id === typed);
    const p = d && at(d);
    setTo(p ?? (d && toEarth(...middle)));
    if (p) onShow(p);
  };
  const put = async (d: Device, position: Device["position"] | undefined, undo = true) => {
    const params = { path: { id: d.id } };
    try {
      await ask(
        position
          ? api.PUT("/api/v1/devices/{id}/position", { params, body: position })
          : api.DELETE("/api/v1/devices/{id}/position", { params }),
      );
      setWrong("");
      tell(position ? `${called(d)} stands there now` : `${called(d)} has no position of its own`, {
        undo: undo ? () => void put(d, d.position, false) : undefined,
      });
    } catch (e) {
      setWrong((e as Error).message);
    }
  };
  const pin = device && to && toScreen(to);
  const move = (left: number, top: number) => setTo(toEarth(left, top));
  const keys = (e: KeyboardEvent) => {
    const by: Record<string, [number, number]> = {
      ArrowLeft: [-8, 0],
      ArrowRight: [8, 0],
      ArrowUp: [0, -8],
      ArrowDown: [0, 8],
    };
    if (!pin || !by[e.key]) return;
    e.preventDefault();
    e.stopPropagation();
    move(pin[0] + by[e.key][0], pin[1] + by[e.key][1]);
  };
  return (
    <>
      <section
        aria-label="Place a device"
        className="absolute top-2 left-2 z-10 w-72 max-w-[calc(100%-4rem)] border border-line bg-surface p-3 shadow-md"
      >
        <input
          list="placed"
          autoFocus
          aria-label="Device to place"
          placeholder="Which device?"
          value={id}
          onChange={(e) => choose(e.target.value.trim())}
          className={`${fieldLook} font-mono`}
        />
        <datalist id="placed">
          {devices.slice(0, 2000).map((d) => (
            <option key={d.id} value={d.id}>
              {d.name}
            </option>
          ))}
        </datalist>
        <p className="py-2 text-muted">
          {device && to
            ? `${to[1].toFixed(5)}, ${to[0].toFixed(5)}: drag its pin, or move it by the arrow keys.`
            : id === ""
              ? "One that says itself where it is needs no pin."
              : `There is no device ${id} here.`}
        </p>
        {wrong && <p className="pb-2 text-poor">{wrong}</p>}
        <div className="flex flex-wrap gap-2">
          {device && to && (
            <Button
              primary
              onClick={() => void put(device, { latitude: round(to[1]), longitude: round(to[0]) })}
            >
              Put it here
            </Button>
          )}
          {device?.position && <Button onClick={() => void put(device, undefined)}>At its site</Button>}
          <Button
            onClick={() => {
              setOpen(false);
              setID("");
            }}
          >
            Done
          </Button>
        </div>
      </section>
      {pin && (
        <button
          type="button"
          aria-label={`Pin of ${id}; the arrow keys move it`}
          className="absolute z-10 -translate-x-1/2 -translate-y-full cursor-move touch-none text-press"
          style={{ left: pin[0], top: pin[1] }}
          onKeyDown={keys}
          onPointerDown={(e: PointerEvent) => {
            e.stopPropagation();
            (e.currentTarget as Element).setPointerCapture(e.pointerId);
            held.current = { x: e.clientX, y: e.clientY, left: pin[0], top: pin[1] };
          }}
          onPointerMove={(e: PointerEvent) => {
            const h = held.current;
            if (h) move(h.left + e.clientX - h.x, h.top + e.clientY - h.y);
          }}
          onPointerUp={() => (held.current = undefined)}
          onPointerCancel={() => (held.current = undefined)}
        >
          <svg width="30" height="40" viewBox="0 0 30 40" aria-hidden="true" className="block">
            <path
              d="M15 39C15 28 3 24 3 14a12 12 0 0 1 24 0c0 10-12 14-12 25z"
              fill="var(--surface)"
              stroke="currentColor"
              strokeWidth="2.4"
            />
            <circle cx="15" cy="14" r="4.5" fill="currentColor" />
          </svg>
        </button>
      )}
    </>
  );
}

// A hundred-thousandth of a degree is a metre.
const round = (degrees: number) => Math.round(degrees * 1e6) / 1e6;
