import { Link } from "react-router";
import type { Component, Device, Model } from "../api/client";
import { useFleet } from "../api/live";
import { calling } from "../lib/alarms";
import { called, plural, words } from "../lib/format";
import { byNeed } from "../lib/need";
import { worst, Vessel } from "./vessel";

// ofComponent tells which of a model's names belong to a component; all do where none is chosen.
export function ofComponent(model: Model | undefined, component: string) {
  const named = new Map(
    [...(model?.properties ?? []), ...(model?.actions ?? [])].map((p) => [p.name, p.component ?? ""]),
  );
  return (name: string) => component === "" || named.get(name) === component;
}

// Components shows how each component of a device is, and chooses one of them.
export function Components({
  device,
  chosen,
  onChoose,
}: {
  device: Device;
  chosen: string;
  onChoose: (component: string) => void;
}) {
  if (!device.components?.length) return null;
  return (
    <section aria-label="Components" className="flex flex-wrap items-stretch gap-2 pt-3">
      {device.components.map((c) => {
        const on = c.name === chosen;
        return (
          <button
            key={c.name}
            aria-pressed={on}
            title={on ? "Show all of the device" : `Show ${words(c.name)} alone`}
            onClick={() => onChoose(on ? "" : c.name)}
            className={`flex max-w-full items-center gap-3 rounded-[4px] border px-3 py-2 text-left ${on ? "border-ink bg-surface" : "border-line hover:border-muted"}`}
          >
            <Vessel device={standIn(device, c)} width={18} badge={false} />
            <span className="min-w-0">
              <b>{words(c.name)}</b>{" "}
              <span
                className={
                  c.health === "poor" ? "text-poor" : c.health === "watch" ? "text-watch" : "text-muted"
                }
              >
                {c.health ?? device.status}
              </span>
              {c.reasons.length > 0 && (
                <span className="block truncate text-[0.8125rem] text-muted">{c.reasons.join("; ")}</span>
              )}
            </span>
          </button>
        );
      })}
    </section>
  );
}

// standIn is a device that is as one of its components is, for the glyph.
const standIn = (d: Device, c: Component): Device => ({
  ...d,
  health: c.health,
  reasons: c.reasons,
  headspace: c.headspace,
  alarms: c.health === "poor" ? calling(d.alarms) : [],
});

const most = 60; // glyphs of devices behind a hub; more are a list

// Behind shows the devices that a hub carries, those first that need somebody.
export function Behind({ hub, span }: { hub: string; span: string }) {
  const fleet = useFleet();
  const carried = [...fleet.devices.values()]
    .filter((d) => d.hub === hub && d.status !== "retired")
    .sort(byNeed);
  if (carried.length === 0) return null;
  const where = encodeURIComponent(`device.hub == ${JSON.stringify(hub)}`);
  const bad = carried.filter((d) => d.health && !["sound", "awaited"].includes(d.health));
  return (
    <section aria-label="Behind it">
      <h2 className="flex items-baseline gap-2 pt-6 pb-1.5">
        <b>Behind it</b>
        <Link to={`/?view=list&where=${where}`} className="text-muted">
          {plural(carried.length, "device")}
          {bad.length > 0 && `, ${bad.length} not sound`}
        </Link>
      </h2>
      <ul>
        {carried.slice(0, most).map((d) => (
          <li key={d.id} className="border-t border-line">
            <Link to={`/devices/${d.id}?span=${span}`} className="flex items-center gap-3 py-1.5">
              <Vessel device={d} width={16} badge={false} />
              <span className="min-w-0 flex-1 truncate">
                {called(d)}{" "}
                <span className="text-muted">
                  {worst(d)?.message ?? (d.health === "sound" ? "" : d.reasons[0])}
                </span>
              </span>
              <span className="text-muted">{d.health ?? d.status}</span>
            </Link>
          </li>
        ))}
      </ul>
      {carried.length > most && (
        <Link to={`/?view=list&where=${where}`} className="text-press underline">
          and {carried.length - most} more
        </Link>
      )}
    </section>
  );
}
