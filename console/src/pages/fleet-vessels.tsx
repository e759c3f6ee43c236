import { memo, useMemo } from "react";
import { Link } from "react-router";
import type { Device, Service } from "../api/client";
import { Badge } from "../components/badge";
import { Legend } from "../components/legend";
import { describe, leastForBadge, Vessel } from "../components/vessel";
import { number, plural, words } from "../lib/format";
import { severityOf } from "../lib/need";
import { useParam } from "../lib/use";

type Raised = NonNullable<Service["groups"]>;

// Up to so many devices each has its vessel. In a larger fleet what is sound is
// drawn as the distribution of its headspace, and still fits one screen.
const singly = 1500;
// Of a group that is opened, or that is in trouble as a whole, no more are drawn
// at once than can be looked at.
const drawn = 1000;

// Vessels are the fleet in groups: the group that needs somebody most first, and
// in it the devices that do. Its parts are drawn again only when they change.
export const Vessels = memo(function Vessels({
  devices,
  by,
  raised,
  only,
}: {
  devices: Device[];
  by: string;
  raised?: Raised;
  only: string;
}) {
  const groups = useMemo(() => {
    const m = new Map<string, Device[]>();
    for (const d of devices) {
      const key = (by === "model" ? d.model_title : d.labels[by]) || `no ${by}`;
      const of = m.get(key);
      if (of) of.push(d);
      else m.set(key, [d]);
    }
    const need = new Map([...m].map(([name, ds]) => [name, needOf(ds)]));
    return [...m].sort(([a], [b]) => need.get(a)! - need.get(b)! || a.localeCompare(b));
  }, [devices, by]);
  const [open, setOpen] = useParam("open", "");
  const opened = useMemo(() => new Set(open.split("\n").filter(Boolean)), [open]);
  const toggle = (name: string) => {
    const next = new Set(opened);
    if (!next.delete(name)) next.add(name);
    setOpen([...next].join("\n"));
  };
  const large = devices.length > singly;
  const width = devices.length <= 60 ? 34 : devices.length <= 300 ? 22 : devices.length <= 1200 ? 14 : 10;
  return (
    <section
      aria-label="Vessels"
      className="field-of-vessels"
      data-devices={devices.length}
      data-few={(devices.length <= 60 && groups.length <= 7) || undefined}
    >
      {groups.map(([name, ds]) => (
        <div
          key={name}
          className="grid grid-cols-[7.5rem_minmax(0,1fr)] gap-x-4 border-t border-line py-2.5 sm:grid-cols-[9rem_minmax(0,1fr)]"
        >
          <div>
            <h2 className="font-semibold">{name}</h2>
            <p className="text-muted">{plural(ds.length, "device")}</p>
            <Summary devices={ds} />
            {raised
              ?.filter((a) => a.group === `${by}=${name}`)
              .map((a) => (
                <Link key={a.id} to="/alarms" className="mt-1 flex items-start gap-1.5" title={a.message}>
                  <Badge priority={a.priority} waiting={a.state === "unacknowledged"} />
                  <b className="min-w-0">{words(a.rule)}</b>
                </Link>
              ))}
          </div>
          {large && only === "all" ? (
            <Crowd devices={ds} width={width} open={opened.has(name)} toggle={() => toggle(name)} />
          ) : (
            <Singles devices={ds} width={width} />
          )}
        </div>
      ))}
      <Legend />
    </section>
  );
});

// Singles draws one vessel a device.
function Singles({ devices, width }: { devices: Device[]; width: number }) {
  const rest = devices.length - drawn;
  return (
    <div>
      <ul className="flex flex-wrap items-start pt-1" style={{ gap: width >= 22 ? "0.65rem 0.8rem" : "3px" }}>
        {(rest > 0 ? devices.slice(0, drawn) : devices).map((d) => (
          <Place key={d.id} device={d} width={width} />
        ))}
      </ul>
      {rest > 0 && (
        <p className="pt-1 text-muted">and {number(rest)} more; the list view shows all of them</p>
      )}
    </div>
  );
}

// Crowd draws what is not sound one by one, and what is as a whole.
function Crowd({
  devices,
  width,
  open,
  toggle,
}: {
  devices: Device[];
  width: number;
  open: boolean;
  toggle: () => void;
}) {
  const abnormal = devices.filter((d) => ["dark", "poor", "watch"].includes(d.health ?? ""));
  const sound = devices.filter((d) => d.health === "sound");
  const awaited = devices.filter((d) => d.health === "awaited").length;
  const other = devices.length - abnormal.length - sound.length - awaited;
  const asides = [awaited && `${number(awaited)} awaited`, other && `${number(other)} out of service`].filter(
    Boolean,
  );
  return (
    <div className="flex min-w-0 flex-wrap items-end gap-x-6 gap-y-1">
      {abnormal.length > 0 && (
        <Singles devices={abnormal} width={abnormal.length <= 60 ? 27 : leastForBadge} />
      )}
      {sound.length > 0 && (
        <button
          type="button"
          onClick={toggle}
          aria-expanded={open}
          className="flex max-w-full cursor-pointer flex-wrap items-end gap-x-4 gap-y-1 rounded-[4px] py-1 text-left hover:bg-surface"
        >
          <Distribution devices={sound} />
          <span>
            <b>{number(sound.length)}</b> sound
            <span className="text-muted">, {halfAbove(sound)}</span>
            <span className="block text-press">{open ? "draw them as one" : "draw each of them"}</span>
          </span>
        </button>
      )}
      {asides.length > 0 && <p className="pb-1 text-muted">{asides.join(", ")}</p>}
      {open && (
        <div className="basis-full">
          <Singles devices={sound} width={width} />
        </div>
      )}
    </div>
  );
}

function halfAbove(devices: Device[]): string {
  const known = devices
    .map((d) => d.headspace)
    .filter((h) => h !== undefined)
    .sort((a, b) => a - b);
  if (known.length === 0) return "headspace not known yet";
  return `half of them above ${Math.round(known[known.length >> 1] * 100)} % headspace`;
}

const bins = 20;

// Distribution shows how many devices have how much headspace, near their limit at
// the left. Square roots, so that the few near a limit can be seen beside thousands.
function Distribution({ devices }: { devices: Device[] }) {
  const n = new Array<number>(bins).fill(0);
  let known = 0;
  for (const d of devices) {
    if (d.headspace === undefined) continue;
    known++;
    n[Math.min(bins - 1, Math.max(0, Math.floor(d.headspace * bins)))]++;
  }
  const most = Math.sqrt(Math.max(1, ...n));
  return (
    <svg
      viewBox="0 0 240 46"
      className="h-auto w-60 max-w-full"
      role="img"
      aria-label={`Headspace of ${known} sound devices, in steps of ${100 / bins} %: ${n.join(", ")}`}
    >
      {n.map((x, i) => {
        const h = x > 0 ? Math.max(2, (Math.sqrt(x) / most) * 30) : 0;
        return <rect key={i} x={i * 12 + 1} y={32 - h} width="10" height={h} fill="var(--rim)" />;
      })}
      <line x1="0" x2="240" y1="32.5" y2="32.5" stroke="var(--rim)" />
      <text x="0" y="44" fontSize="10" fill="var(--muted)">
        0 %
      </text>
      <text x="240" y="44" fontSize="10" textAnchor="end" fill="var(--muted)">
        100 % headspace
      </text>
    </svg>
  );
}

const Place = memo(function Place({ device: d, width }: { device: Device; width: number }) {
  const said = describe(d);
  const small = width < leastForBadge;
  return (
    <li className="leading-none">
      <Link
        to={`/devices/${d.id}`}
        title={said}
        aria-label={small ? said : undefined}
        className="relative block"
      >
        {!small && <span className="sr-only">{said}</span>}
        <Vessel device={d} width={width} />
      </Link>
    </li>
  );
});

const needOf = (ds: Device[]) =>
  ds.reduce((least, d) => Math.min(least, severityOf(d) * 10 + Math.min(d.headspace ?? 1, 1)), Infinity);

function Summary({ devices }: { devices: Device[] }) {
  const parts = ["dark", "poor", "watch"]
    .map((h) => ({ h, n: devices.filter((d) => d.health === h).length }))
    .filter((x) => x.n > 0);
  if (parts.length === 0) return <p className="text-muted">all sound</p>;
  return <p className="font-semibold">{parts.map((x) => `${number(x.n)} ${x.h}`).join(", ")}</p>;
}
