import { useQuery } from "@tanstack/react-query";
import { useMemo, useRef, useState, type KeyboardEvent, type WheelEvent } from "react";
import { Link } from "react-router";
import {
  api,
  ask,
  type Alarm,
  type Device,
  type Forecast,
  type Line,
  type Model,
  type Property,
} from "../api/client";
import { firstLimit, useForecast } from "../api/forecast";
import { useFleet } from "../api/live";
import { Button, Choice, Empty, Notes, Trouble } from "../components/parts";
import { LimitAheadNote } from "../components/limit-ahead";
import { LogLane } from "../components/log-lane";
import { ofComponent } from "../components/inside";
import { Different } from "../components/different";
import { usePoint } from "../components/trace-point";
import { Trace, type AlarmSpan, type TraceData } from "../components/trace";
import { minuteOf, number, plural, say } from "../lib/format";
import {
  expectedGap,
  iso,
  limitsOf,
  newestOf,
  spans,
  timesOf,
  summarise,
  whereDataIs,
  withGaps,
  type Times,
} from "../lib/history";
import { grown, stacked } from "../lib/size";
import { useNow, useParam } from "../lib/use";

const wished = 600;
const names: Record<string, string> = { csv: "CSV", jsonl: "JSON Lines", senml: "SenML", parquet: "Parquet" };
const day = 24 * 3600_000;
const least = 60_000; // the shortest times that is shown

const horizons: Record<string, number> = { "6h": 6 * 3600_000, "12h": 12 * 3600_000, "24h": day };
const shifts: Record<string, number> = { day: day, week: 7 * day };

// History is every number of a device on one time axis.
export function History({ device, model, component }: { device: Device; model?: Model; component: string }) {
  const now = useNow(5000);
  const fleet = useFleet();
  const [span, setSpan] = useParam("span", "24h");
  const [hidden, setHidden] = useParam("hide", "");
  const [against, setAgainst] = useParam("with", "");
  const [ahead, setAhead] = useParam("ahead", "");
  const [band, setBand] = useParam("peers", "");
  const [asked, setAsked] = useParam("different", "");
  const hide = hidden.split(",").filter(Boolean);
  const of = ofComponent(model, component);
  const telemetry = (model?.properties ?? []).filter((p) => p.role === "telemetry" && of(p.name));
  const numeric = telemetry.filter((p) => p.type !== "text" && p.type !== "nothing");
  const shown = numeric.filter((p) => !hide.includes(p.name));
  const tall = stacked(shown.length, 300, 96);
  const newest = newestOf(device);
  const times = whereDataIs(timesOf(span, now), newest);
  // A forecast is of what comes after now.
  const tomorrow = times.live ? (horizons[ahead] ?? 0) : 0;
  const shownTo = times.to + tomorrow;
  const go = (from: number, to: number) => {
    const width = Math.max(to - from, least);
    const end = Math.min(from + width, Math.max(now, to - (to - from) / 2) + width / 4);
    setSpan(`${iso(Math.round(end - width))}..${iso(Math.round(end))}`);
  };
  const width = times.to - times.from;
  const pan = (part: number) => go(times.from + part * width, times.to + part * width);
  const zoom = (by: number, at = 0.5) => {
    const middle = times.from + at * width;
    go(middle - at * width * by, middle + (1 - at) * width * by);
  };
  const keys = (e: KeyboardEvent) => {
    const act: Record<string, () => void> = {
      ArrowLeft: () => pan(-0.25),
      ArrowRight: () => pan(0.25),
      "+": () => zoom(0.5),
      "-": () => zoom(2),
      Home: () => setSpan("24h"),
    };
    if (e.target === e.currentTarget && act[e.key]) {
      e.preventDefault();
      act[e.key]();
    }
  };
  const wheeled = useRef(0);
  const wheel = (e: WheelEvent) => {
    if (!e.ctrlKey && !e.metaKey) return;
    if (e.timeStamp - wheeled.current < 60) return;
    wheeled.current = e.timeStamp;
    const box = e.currentTarget.getBoundingClientRect();
    zoom(e.deltaY > 0 ? 1.4 : 0.7, Math.min(Math.max((e.clientX - box.left) / box.width, 0), 1));
  };
  const shift = shifts[against] ?? 0;
  const lines = useLines(
    device.id,
    shown.map((p) => p.name),
    times,
  );
  const other = useLines(
    against === "" ? "" : shift ? device.id : against,
    shown.map((p) => p.name),
    { ...times, from: times.from - shift, to: times.to - shift },
  );
  const alarms = useQuery({
    queryKey: ["alarms", device.id, "all", device.alarms.map((a) => a.id + a.state).join()],
    queryFn: () =>
      ask(api.GET("/api/v1/alarms", { params: { query: { device: device.id, all: true, limit: 500 } } })),
    placeholderData: (old) => old,
  });
  const happened = useHappened(device.id, times);
  const peers = [...fleet.devices.values()]
    .filter((d) => d.model === device.model && d.id !== device.id && newestOf(d))
    .map((d) => d.id)
    .sort();
  if (newest === undefined)
    return (
      <Empty title="No reading has come yet" why="History begins with the first reading of the device." />
    );
  const chosen = spans.some((s) => s.value === span) ? span : "";
  return (
    <section aria-label="History" className="pt-3">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pb-2">
        <Choice label="Span" options={spans} value={chosen} onChange={setSpan} />
        <div className="flex gap-1">
          <Button onClick={() => pan(-0.5)} aria-label="Earlier" className="!px-2.5 !py-1">
            ‹
          </Button>
          <Button onClick={() => pan(0.5)} aria-label="Later" className="!px-2.5 !py-1">
            ›
          </Button>
          <Button onClick={() => zoom(0.5)} aria-label="Closer" className="!px-2.5 !py-1">
            +
          </Button>
          <Button onClick={() => zoom(2)} aria-label="Wider" className="!px-2.5 !py-1">
            −
          </Button>
        </div>
        <label className="flex items-center gap-2 text-muted">
          Compare with
          <select
            value={against}
            onChange={(e) => setAgainst(e.target.value)}
            className="rounded-[4px] border border-muted bg-ground px-2 py-1 text-ink"
          >
            <option value="">nothing</option>
            <option value="day">the day before</option>
            <option value="week">the week before</option>
            {peers.map((id) => (
              <option key={id}>{id}</option>
            ))}
          </select>
        </label>
        <label className="flex items-center gap-2 text-muted">
          <input
            type="checkbox"
            checked={band !== ""}
            onChange={(e) => setBand(e.target.checked ? "1" : "")}
          />
          Peers
        </label>
        <label className="flex items-center gap-2 text-muted">
          Forecast
          <select
            value={ahead}
            onChange={(e) => setAhead(e.target.value)}
            disabled={!times.live}
            title={times.live ? undefined : "A forecast goes on from now; choose a span until now."}
            className="rounded-[4px] border border-muted bg-ground px-2 py-1 text-ink disabled:opacity-50"
          >
            <option value="">none</option>
            <option value="6h">6 h</option>
            <option value="12h">12 h</option>
            <option value="24h">24 h</option>
          </select>
        </label>
        <Button
          onClick={() => setAsked(asked ? "" : "1")}
          aria-expanded={asked !== ""}
          className="!px-2.5 !py-1 !font-normal"
        >
          What was different?
        </Button>
      </div>
      {asked && <Different device={device.id} times={times} onClose={() => setAsked("")} />}
      <p className="flex flex-wrap items-baseline gap-x-3 pb-1 text-muted">
        <b className="text-ink">
          {minuteOf(times.from)} – {times.live ? "now" : minuteOf(times.to)}
        </b>
        <span>
          {lines.data ? `a point every ${lines.data.step}` : "…"}. Drag over a chart to look closer; Ctrl and
          the wheel, or + − and the arrow keys, when this part has the focus.
        </span>
        <span className="ml-auto flex items-center gap-3 text-muted">
          <Link
            className="text-press"
            to={`/query?metric=${shown[0]?.name ?? ""}&span=${encodeURIComponent(span)}`}
          >
            many devices
          </Link>
          Export
          {["csv", "jsonl", "senml", "parquet"].map((f) => (
            <a key={f} className="text-press" href={exportOf(device.id, shown, times, f)} download>
              {names[f]}
            </a>
          ))}
        </span>
      </p>
      <div className="flex flex-wrap gap-1.5 pb-2" role="group" aria-label="Shown">
        {numeric.map((p) => (
          <button
            key={p.name}
            type="button"
            aria-pressed={!hide.includes(p.name)}
            onClick={() =>
              setHidden(
                hide.includes(p.name)
                  ? hide.filter((x) => x !== p.name).join(",")
                  : [...hide, p.name].join(","),
              )
            }
            className={`rounded-[4px] border px-2 py-0.5 font-mono text-[0.8125rem] ${hide.includes(p.name) ? "border-transparent text-muted line-through" : "border-line bg-surface"}`}
          >
            {p.name}
          </button>
        ))}
      </div>
      {lines.error && <Trouble>{lines.error.message}</Trouble>}
      <Notes lines={lines.data?.lines} />
      <div
        tabIndex={0}
        role="group"
        aria-label="Charts; arrow keys move, plus and minus zoom"
        onKeyDown={keys}
        onWheel={wheel}
      >
        {shown.map((p, i) => (
          <Row
            key={p.name}
            device={device}
            property={p}
            line={lines.data?.lines.find((l) => l.metric === p.name)}
            other={other.data?.lines.find((l) => l.metric === p.name)}
            name={against && (shift ? `${against} before` : against)}
            shift={shift}
            times={{ ...times, to: shownTo }}
            band={band !== ""}
            happened={happened}
            ahead={tomorrow ? ahead : ""}
            alarms={(alarms.data ?? []).filter((a) => a.metric === p.name)}
            now={now}
            height={Math.max(tall, i === 0 ? grown(150) : 0)}
            pending={lines.isPending}
            onZoom={go}
          />
        ))}
        <LogLane device={device.id} from={times.from} to={shownTo} />
      </div>
    </section>
  );
}

// Happened is something in the journal of the device that is no alarm: those are drawn
// themselves.
interface Happened {
  key: number;
  at: number; // in seconds
  text: string;
}

function useHappened(device: string, s: Times): Happened[] {
  const found = useQuery({
    queryKey: ["happened", device, s.from, Math.round(s.to / 30_000)],
    placeholderData: (old, last) => (last?.queryKey[1] === device ? old : undefined),
    queryFn: () =>
      ask(
        api.GET("/api/v1/journal", {
          params: { query: { device, from: iso(s.from), to: iso(s.to), limit: 200 } },
        }),
      ),
  });
  return useMemo(
    () =>
      (found.data ?? [])
        .filter((e) => !e.kind.startsWith("alarm"))
        .map((e) => ({ key: e.number, at: Date.parse(e.at) / 1000, text: e.text })),
    [found.data],
  );
}

// usePeers reads where the peers of a device lay.
function usePeers(device: string, metric: string, s: Times, on: boolean) {
  const found = useQuery({
    queryKey: ["peers", device, metric, s.from, s.to],
    enabled: on,
    placeholderData: (old, last) => (last?.queryKey[1] === device ? old : undefined),
    queryFn: () =>
      ask(
        api.GET("/api/v1/devices/{id}/peers", {
          params: {
            path: { id: device },
            query: { metric, span: `${iso(s.from)}..${iso(s.to)}`, steps: 200 },
          },
        }),
      ),
  });
  const data = on ? found.data : undefined;
  const shown = useMemo<TraceData | undefined>(
    () =>
      data && {
        at: data.steps.map((x) => Date.parse(x.at) / 1000),
        mean: data.steps.map((x) => x.middle),
        min: data.steps.map((x) => x.low),
        max: data.steps.map((x) => x.high),
      },
    [data],
  );
  return { data, shown };
}

function useLines(device: string, metrics: string[], s: Times) {
  return useQuery({
    queryKey: ["lines", device, metrics.join(), s.from, s.to],
    enabled: device !== "" && metrics.length > 0,
    // While the next times is on its way, the last one is drawn where it belongs.
    placeholderData: (old, last) => (last?.queryKey[1] === device ? old : undefined),
    queryFn: () =>
      ask(
        api.GET("/api/v1/query", {
          params: {
            query: { device: [device], metric: metrics, span: `${iso(s.from)}..${iso(s.to)}`, steps: wished },
          },
        }),
      ),
  });
}

// how says by which method a forecast was made, and how well that did.
function how(f: Forecast | undefined, p: Property): string | undefined {
  if (!f) return undefined;
  const unit = p.display ? ` ${p.display}` : "";
  const digits = Math.max(p.decimals, 0) + 1;
  const other = f.naive_seasonal ? "the same time a day before" : "the last value";
  return `by ${f.method}, the least wrong of five from ${number(f.moments)} moments of the past: ${number(f.error, digits)}${unit} off on average; ${other} would have been ${number(f.naive, digits)}${unit}${f.note ? `; ${f.note}` : ""}`;
}

function exportOf(device: string, shown: Property[], s: Times, format: string): string {
  const q = new URLSearchParams({
    device,
    metric: shown.map((p) => p.name).join(),
    span: `${iso(s.from)}..${iso(s.to)}`,
    format,
    units: "own",
  });
  return `/api/v1/export?${q}`;
}

function Row({
  device,
  property: p,
  line,
  other,
  name,
  shift,
  times,
  band,
  happened,
  ahead,
  alarms,
  now,
  height,
  pending,
  onZoom,
}: {
  device: Device;
  property: Property;
  line?: Line;
  other?: Line;
  name: string;
  shift: number;
  times: Times;
  band: boolean;
  happened: Happened[];
  ahead: string;
  alarms: Alarm[];
  now: number;
  height: number;
  pending: boolean;
  onZoom: (from: number, to: number) => void;
}) {
  const [under, setUnder] = useState<{ at: number; value: number | null; other: number | null }>();
  const gap = expectedGap(device.interval, times.to - times.from, wished);
  const data = useMemo(() => withGaps(line?.steps ?? [], gap), [line, gap]);
  const compared = useMemo(
    () => (other ? withGaps(other.steps, gap, shift) : undefined),
    [other, gap, shift],
  );
  const forecast = useForecast(device.id, p.name, ahead, p.type !== "boolean");
  const probable = useMemo<TraceData | undefined>(() => {
    const f = ahead === "" ? undefined : forecast.data;
    return (
      f && {
        at: f.steps.map((x) => Date.parse(x.at) / 1000),
        mean: f.steps.map((x) => x.mean),
        min: f.steps.map((x) => x.low),
        max: f.steps.map((x) => x.high),
      }
    );
  }, [forecast.data, ahead]);
  const last = ahead === "" ? undefined : forecast.data?.steps.at(-1);
  const limits = useMemo(() => limitsOf(device.margins, p), [device.margins, p]);
  const peers = usePeers(device.id, p.name, times, band && p.type !== "boolean");
  const { onPoint, point } = usePoint();
  const ticks = useMemo(() => happened.map((h) => h.at), [happened]);
  const near =
    under && happened.filter((h) => Math.abs(h.at - under.at) * 1000 < (times.to - times.from) / 150);
  const marks = useMemo<AlarmSpan[]>(
    () =>
      alarms.map((a) => ({
        from: Date.parse(a.raised_at) / 1000,
        to: (a.returned_at ? Date.parse(a.returned_at) : now) / 1000,
        priority: a.priority,
        often: a.times > 1,
      })),
    [alarms, now],
  );
  const values = (line?.steps ?? []).length;
  const low = values ? Math.min(...line!.steps.map((x) => x.min)) : undefined;
  const high = values ? Math.max(...line!.steps.map((x) => x.max)) : undefined;
  return (
    <div
      className="grid grid-cols-1 border-b border-line py-2 sm:grid-cols-[9.25rem_minmax(0,1fr)]"
      data-metric={p.name}
    >
      <div className="pr-2">
        <h3 className="font-mono text-[0.8125rem] font-semibold">{p.name}</h3>
        {under && under.value !== null ? (
          <>
            <p className="whitespace-nowrap">
              <span className="text-[1.375rem] leading-tight font-bold">
                {p.type === "boolean" ? (under.value >= 0.5 ? "yes" : "no") : say(under.value, p)}
              </span>{" "}
              <span className="text-muted">{p.display}</span>
            </p>
            <p className="text-[0.8125rem] text-muted">{minuteOf(under.at * 1000)}</p>
          </>
        ) : low !== undefined && p.type !== "boolean" ? (
          <p className="text-muted">
            {low === high ? say(low, p) : `${say(low, p)} – ${say(high, p)}`} {p.display}
          </p>
        ) : (
          <p className="text-muted">{p.title}</p>
        )}
        {near?.slice(0, 2).map((h) => (
          <p key={h.key} className="text-[0.8125rem]">
            <span aria-hidden="true">▲ </span>
            {h.text}
          </p>
        ))}
        {peers.data && (
          <p className="text-[0.8125rem] text-muted" title="Where the middle 80 of 100 of them lie">
            <span aria-hidden="true" className="mr-1.5 inline-block h-2 w-3 bg-muted/30" />
            {peers.data.steps.length > 0
              ? plural(peers.data.peers, "peer")
              : peers.data.peers < 3
                ? "fewer than three peers"
                : "no readings of peers"}
          </p>
        )}
        {ahead !== "" && p.type !== "boolean" && (
          <p className="text-[0.8125rem] text-muted" title={how(forecast.data, p) ?? forecast.error?.message}>
            {last
              ? `in ${ahead} ${say(last.mean, p)} ± ${say((last.high - last.low) / 2, p)}`
              : forecast.error
                ? "no forecast"
                : "…"}
          </p>
        )}
        {ahead !== "" && <LimitAheadNote limit={firstLimit(forecast.data?.limits)} />}
        {name && (
          <p className="text-[0.8125rem] text-muted">
            <span aria-hidden="true" style={{ color: "var(--series-2)" }}>
              ╌╌{" "}
            </span>
            {under && under.other !== null ? `${say(under.other, p)} ${p.display ?? ""}` : name}
          </p>
        )}
      </div>
      {!pending && values === 0 && !compared?.at.length ? (
        <p className="self-center text-muted">No reading in this span.</p>
      ) : (
        <Trace
          data={data}
          other={compared}
          ahead={probable}
          peers={peers.shown}
          marks={ticks}
          alarms={marks}
          from={times.from / 1000}
          to={times.to / 1000}
          height={height}
          limits={limits}
          decimals={p.decimals}
          unit={p.display ?? ""}
          step={p.type === "boolean"}
          summary={summarise(p, data, times.from, times.to)}
          onZoom={(a, b) => onZoom(a * 1000, b * 1000)}
          onHover={(at, value, o) => setUnder(at === null ? undefined : { at, value, other: o })}
          onPoint={(at) => onPoint(at, { device: device.id, metric: p.name })}
        />
      )}
      {point}
    </div>
  );
}
