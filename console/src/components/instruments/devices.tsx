import { useMemo, useState } from "react";
import { Link } from "react-router";
import { useQuery } from "@tanstack/react-query";
import { api, ask, type Device, type Instrument } from "../../api/client";
import { useFleet } from "../../api/live";
import { both, useChosen, type Seen } from "../../lib/board";
import { useCrosshair } from "../../lib/crosshair";
import { calling } from "../../lib/alarms";
import { absolute, ago, number, plural, rank, say, words } from "../../lib/format";
import { useMetricsOfEach, useMoment } from "../../lib/moment";
import { byNeed } from "../../lib/need";
import { usePlaces } from "../../lib/place";
import { useScreen } from "../../lib/screen";
import { useDelayed } from "../../lib/use";
import { grown } from "../../lib/size";
import { whenAsked } from "../../lib/when-asked";
import { middle, PlanPicture, type PlacedValue } from "../plan";
import { Vessels as Field } from "../../pages/fleet-vessels";
import { Badge } from "../badge";
import { useMatching } from "../where";
import { Frame, None, titleOf } from "./parts";

export function Alarms({ x, seen }: { x: Instrument; seen: Seen }) {
  const { devices, pending } = useChosen(seen.where);
  const open = useMemo(
    () =>
      devices
        .flatMap((d) => calling(d.alarms).map((a) => ({ a, d })))
        .sort(
          (p, q) => rank(p.a.priority) - rank(q.a.priority) || q.a.raised_at.localeCompare(p.a.raised_at),
        ),
    [devices],
  );
  return (
    <Frame title={titleOf(x)} aside={open.length ? `${number(open.length)} open` : undefined}>
      {pending ? (
        <None>Loading…</None>
      ) : open.length === 0 ? (
        <None>No alarm is open{devices.length ? ` on ${plural(devices.length, "device")}` : ""}.</None>
      ) : (
        <ul>
          {open.slice(0, 50).map(({ a, d }) => (
            <li key={a.id} className="flex items-start gap-2.5 py-1.5">
              <Badge priority={a.priority} waiting={a.state.includes("unacknowledged")} />
              <Link to={`/alarms/${a.id}`} className="min-w-0 flex-1 hover:text-press">
                {a.message || `${words(a.rule)}, ${d.id}`}
              </Link>
              <span className="whitespace-nowrap text-muted">{ago(a.raised_at, seen.now)}</span>
            </li>
          ))}
          {open.length > 50 && <li className="text-muted">and {number(open.length - 50)} more</li>}
        </ul>
      )}
    </Frame>
  );
}

const colourOf: Record<string, string> = {
  poor: "var(--urgent)",
  dark: "var(--muted)",
  watch: "var(--medium)",
  silent: "var(--muted)",
  overdue: "var(--medium)",
};

export function Tally({ x, seen }: { x: Instrument; seen: Seen }) {
  const count = x.count ?? "health";
  const simple = ["health", "link", "model", "version"].includes(count) || count.startsWith("label.");
  const { devices, pending } = useChosen(seen.where);
  const { matching } = useMatching(simple ? "" : both(seen.where, count));
  const rows = useMemo(() => {
    if (!simple) return [];
    const by = new Map<string, Device[]>();
    for (const d of devices) {
      const key =
        count === "health"
          ? (d.health ?? d.status)
          : count === "link"
            ? d.link
            : count === "model"
              ? d.model_title || d.model
              : count === "version"
                ? `${d.model} ${d.model_version}`
                : d.labels[count.slice(6)] || "none";
      const held = by.get(key);
      if (held) held.push(d);
      else by.set(key, [d]);
    }
    return [...by].sort((a, b) => b[1].length - a[1].length || a[0].localeCompare(b[0]));
  }, [devices, count, simple]);
  if (!simple) {
    const n = matching?.size ?? 0;
    return (
      <Frame title={x.title || count} aside={`of ${plural(devices.length, "device")}`}>
        <p className="text-[2.5rem] leading-tight font-bold tabular-nums">{number(n)}</p>
        <Link
          to={`/?view=list&where=${encodeURIComponent(both(seen.where, count))}`}
          className="text-press underline"
        >
          which {n === 1 ? "it is" : "they are"}
        </Link>
      </Frame>
    );
  }
  const most = Math.max(1, ...rows.map(([, ds]) => ds.length));
  return (
    <Frame title={titleOf(x)} aside={plural(devices.length, "device")}>
      {rows.length === 0 ? (
        <None>{pending ? "Loading…" : "No device is chosen."}</None>
      ) : (
        <table className="w-full">
          <caption className="sr-only">{titleOf(x)}</caption>
          <tbody>
            {rows.slice(0, 40).map(([name, ds]) => (
              <tr key={name}>
                <th scope="row" className="max-w-40 truncate py-0.5 pr-3 text-left font-normal">
                  {name}
                </th>
                <td className="w-full py-0.5">
                  <span
                    className="block h-2.5"
                    style={{
                      width: `${(100 * ds.length) / most}%`,
                      background: colourOf[name] ?? "var(--line)",
                    }}
                  />
                </td>
                <td className="py-0.5 pl-3 text-right tabular-nums">{number(ds.length)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </Frame>
  );
}

export function VesselField({ x, seen }: { x: Instrument; seen: Seen }) {
  const { devices, pending } = useChosen(seen.where);
  const fleet = useFleet();
  const sorted = useMemo(() => [...devices].sort(byNeed), [devices]);
  return (
    <Frame title={titleOf(x)} aside={plural(devices.length, "device")}>
      {devices.length === 0 ? (
        <None>{pending ? "Loading…" : "No device is chosen."}</None>
      ) : (
        <Field devices={sorted} by={x.group_by ?? "site"} raised={fleet.service?.groups} only="all" />
      )}
    </Frame>
  );
}

const FleetMap = whenAsked(() => import("../fleet-map"), <None>Loading…</None>);

export function MapOf({ x, seen }: { x: Instrument; seen: Seen }) {
  const { devices, pending } = useChosen(seen.where);
  return (
    <Frame title={titleOf(x)} aside={plural(devices.length, "device")}>
      {devices.length === 0 ? (
        <None>{pending ? "Loading…" : "No device is chosen."}</None>
      ) : (
        <FleetMap devices={devices} where={seen.where} times={seen.times} />
      )}
    </Frame>
  );
}

// usePlaced are the values that stand on a plan by themselves.
function usePlaced(at: Instrument["at"], devices: readonly Device[]): PlacedValue[] {
  const keys = Object.keys(at ?? {}).filter((k) => k.includes("/"));
  const models = useQuery({
    queryKey: ["models"],
    enabled: keys.length > 0,
    queryFn: () => ask(api.GET("/api/v1/models")),
  });
  return keys.flatMap((key) => {
    const [id, metric] = key.split("/");
    const device = devices.find((d) => d.id === id);
    if (!device) return [];
    const p = models.data?.find((m) => m.name === device.model)?.properties.find((q) => q.name === metric);
    const latest = device.latest[metric];
    return [
      { key, device, metric, text: latest ? `${say(latest.value, p)} ${p?.display ?? ""}`.trim() : "–" },
    ];
  });
}

// useThen is how all devices were at the time at which the crosshair of the page rests; undefined
// where it does not.
function useThen(now: number, on: boolean) {
  const screen = useScreen();
  const cross = useCrosshair();
  const at = cross === null ? 0 : Math.floor(cross / 60_000) * 60_000;
  const rests = useDelayed(String(at), 400) ?? "0";
  const past = on && !screen && at < now && rests === String(at) ? at : 0;
  return useMoment(past, useMetricsOfEach(past > 0)).moment;
}

// Plan is the picture of a site with its devices where somebody put them, on this board or on
// the page of the site; while a board is changed they are dragged there.
export function Plan({
  x,
  seen,
  height,
  onChange,
}: {
  x: Instrument;
  seen: Seen;
  height: number;
  onChange?: (x: Instrument) => void;
}) {
  const site = x.site ?? seen.site ?? "";
  const { devices: now } = useChosen(seen.where);
  const then = useThen(seen.now, !onChange && !seen.asOf);
  const devices = then ? now.flatMap((d) => then.devices.get(d.id) ?? []) : now;
  const places = usePlaces(site !== "");
  const [broken, setBroken] = useState("");
  const here = devices.filter((d) => !site || d.labels.site === site);
  const at = { ...places.data?.items.find((s) => s.site === site)?.at, ...x.at };
  const values = usePlaced(x.at, here);
  if (site === "")
    return (
      <Frame title={titleOf(x)}>
        <None>Choose a site at the top, or name one in the board.</None>
      </Frame>
    );
  return (
    <Frame
      title={titleOf(x)}
      aside={
        onChange
          ? "drag a device to its place"
          : then
            ? `as of ${absolute(new Date(then.at).toISOString())}`
            : site
      }
    >
      {broken === site ? (
        <None>{site} has no plan yet; it is added on the page of the sites.</None>
      ) : (
        <PlanPicture
          site={site}
          devices={here}
          at={at}
          width={(ratio) => `min(100%, ${Math.max(height - grown(66), 80) * ratio}px)`}
          onBroken={() => setBroken(site)}
          values={values}
          onPlace={
            onChange && ((id, move) => onChange({ ...x, at: { ...x.at, [id]: move(at[id] ?? middle) } }))
          }
        />
      )}
    </Frame>
  );
}
