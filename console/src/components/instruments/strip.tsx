import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { Link } from "react-router";
import { api, ask, type Device, type Instrument } from "../../api/client";
import { useChosen, useLines, useProperty, type Seen } from "../../lib/board";
import { lasting, number, plural, rank } from "../../lib/format";
import { expectedGap } from "../../lib/history";
import { useNow } from "../../lib/use";
import { Crossed } from "./crossed";
import { Frame, None, titleOf } from "./parts";

// Part is a time in which a device was in one state.
interface Part {
  from: number;
  to: number;
  says: string;
  fill: string;
}

interface Row {
  device: string;
  parts: Part[];
  // what a reader of the screen hears of it
  summary: string;
}

const mostRows = 60;

// Strip shows states over time, a row for each device: those of a metric, its link, or its alarms.
export function Strip({ x, seen }: { x: Instrument; seen: Seen }) {
  switch (x.states) {
    case "link":
      return <OfLink x={x} seen={seen} />;
    case "alarm":
      return <OfAlarm x={x} seen={seen} />;
  }
  return <OfMetric x={x} seen={seen} />;
}

// timeOf is how long parts are together, of those that are asked about.
const timeOf = (parts: readonly Part[], which: (p: Part) => boolean = () => true) =>
  parts.filter(which).reduce((n, p) => n + p.to - p.from, 0);

function OfMetric({ x, seen }: { x: Instrument; seen: Seen }) {
  const metric = x.metrics?.[0] ?? "";
  const { devices, pending } = useChosen(seen.where);
  const p = useProperty(metric, devices);
  const answer = useLines([metric], seen, { aggregate: "last", steps: 200 });
  const { from, to } = seen.times;
  const lines = (answer.data?.lines ?? []).filter((l) => l.steps.length > 0);
  const states = [...new Set(lines.flatMap((l) => l.steps.map((s) => String(s.last ?? s.value))))].sort();
  const two = states.every((s) => ["true", "false", "0", "1"].includes(s));
  const fill = (s: string) =>
    two
      ? s === "true" || s === "1"
        ? "var(--muted)"
        : "var(--line)"
      : `var(--line-${(states.indexOf(s) % 8) + 1})`;
  const said = (s: string) => (two ? (s === "true" || s === "1" ? "on" : "off") : s);
  const rows = lines.map((l): Row => {
    const gap = expectedGap(devices.find((o) => o.id === l.device)?.interval ?? "1min", to - from, 200);
    const parts: Part[] = [];
    l.steps.forEach((s, i) => {
      const at = Date.parse(s.at);
      const next = i + 1 < l.steps.length ? Date.parse(l.steps[i + 1].at) : Math.min(at + gap, to);
      const state = String(s.last ?? s.value);
      const end = Math.min(next, at + gap); // a gap is not bridged
      const last = parts.at(-1);
      if (last && last.says === said(state) && last.to >= at - 1) last.to = end;
      else parts.push({ from: at, to: end, says: said(state), fill: fill(state) });
    });
    const share = (s: string) => timeOf(parts, (q) => q.says === said(s)) / Math.max(1, timeOf(parts));
    return {
      device: l.device ?? "",
      parts,
      summary: states.map((s) => `${said(s)} ${number(100 * share(s), 0)} %`).join(", "),
    };
  });
  return (
    <Strips
      title={titleOf(x, p)}
      seen={seen}
      devices={devices}
      rows={rows}
      pending={pending || answer.isPending}
      error={answer.error?.message}
      none={`Nothing came in ${lasting(to - from)}.`}
      otherwise="nothing came"
      legend={states.slice(0, 8).map((s) => ({ says: said(s), fill: fill(s) }))}
    />
  );
}

const mostOff = 200; // times off line that are asked for of each device

// OfLink shows when devices were on line; those that were off line for longest come first.
function OfLink({ x, seen }: { x: Instrument; seen: Seen }) {
  const { devices, pending } = useChosen(seen.where);
  const { from, to } = seen.times;
  // What is told goes from a time until now, also of a span that has ended.
  const minute = Math.ceil(useNow(30_000) / 60_000) * 60_000;
  const span = `${Math.max(60, Math.ceil((minute - from) / 60_000))}min`;
  const answer = useQuery({
    queryKey: ["activity", "strip", seen.where, span],
    placeholderData: keepPreviousData,
    refetchInterval: 60_000,
    retry: false,
    queryFn: () =>
      ask(
        api.GET("/api/v1/activity", {
          params: { query: { span, off: mostOff, where: seen.where || "true" } },
        }),
      ),
  });
  const on = { says: "on line", fill: "var(--line)" };
  const off = { says: "off line", fill: "var(--medium)" };
  const rows = (answer.data ?? [])
    .filter((a) => a.first_at)
    .map((a): Row => {
      const gone = a.off ?? [];
      const known = gone.length === mostOff ? gone[0].from : a.from; // what was before is not told
      const parts: Part[] = [];
      let at = Math.max(from, Date.parse(known));
      for (const o of gone) {
        const [begin, end] = [Date.parse(o.from), o.to ? Date.parse(o.to) : to];
        if (end <= at || begin >= to) continue;
        if (begin > at) parts.push({ from: at, to: begin, ...on });
        parts.push({ from: Math.max(begin, at), to: Math.min(end, to), ...off });
        at = Math.min(end, to);
      }
      if (at < to) parts.push({ from: at, to, ...on });
      return {
        device: a.device,
        parts,
        summary: `on line ${number((100 * timeOf(parts, (p) => p.says === on.says)) / Math.max(1, timeOf(parts)), 0)} %`,
      };
    });
  const gone = (r: Row) => timeOf(r.parts, (p) => p.says === off.says);
  rows.sort((a, b) => gone(b) - gone(a) || a.device.localeCompare(b.device));
  return (
    <Strips
      title={titleOf(x)}
      seen={seen}
      devices={devices}
      rows={rows}
      pending={pending || answer.isPending}
      error={answer.error?.message}
      none="None of them was heard yet."
      otherwise="not known"
      legend={[on, off]}
    />
  );
}

const mostAlarms = 500;

// OfAlarm shows when devices had an alarm, in the colour of the gravest at that time.
function OfAlarm({ x, seen }: { x: Instrument; seen: Seen }) {
  const { devices, pending } = useChosen(seen.where);
  const { from, to } = seen.times;
  const open = useMemo(() => devices.flatMap((d) => d.alarms.map((a) => a.id + a.state)).join(), [devices]);
  const answer = useQuery({
    queryKey: ["alarms", "strip", seen.where, open],
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      ask(
        api.GET("/api/v1/alarms", {
          params: { query: { where: seen.where || "true", all: true, limit: mostAlarms } },
        }),
      ),
  });
  const all = answer.data ?? [];
  // Older ones than the oldest that came are not known of.
  const known = all.length === mostAlarms ? Date.parse(all[all.length - 1].raised_at) : 0;
  const by = new Map<string, Part[]>();
  // The gravest comes last, and lies over the others.
  for (const a of [...all].sort((p, q) => rank(q.priority) - rank(p.priority))) {
    const [begin, end] = [Date.parse(a.raised_at), a.returned_at ? Date.parse(a.returned_at) : to];
    if (!a.device || end <= from || begin >= to) continue;
    const part = {
      from: Math.max(begin, from),
      to: Math.min(end, to),
      says: a.message || a.rule,
      fill: `var(--${a.priority})`,
    };
    by.set(a.device, [...(by.get(a.device) ?? []), part]);
  }
  const rows = [...by]
    .map(([device, parts]): Row => {
      return { device, parts, summary: `${plural(parts.length, "alarm")} in ${lasting(to - from)}` };
    })
    .sort((a, b) => timeOf(b.parts) - timeOf(a.parts) || a.device.localeCompare(b.device));
  const used = new Set(rows.flatMap((r) => r.parts.map((p) => p.fill)));
  return (
    <Strips
      title={titleOf(x)}
      seen={seen}
      devices={devices}
      rows={rows}
      pending={pending || answer.isPending}
      error={answer.error?.message}
      none={`No alarm in ${lasting(to - from)}.`}
      otherwise={known > from ? "no alarm, as far as is told" : "no alarm"}
      legend={["urgent", "high", "medium", "low"]
        .map((p) => ({ says: p, fill: `var(--${p})` }))
        .filter((p) => used.has(p.fill))}
      note={
        known > from ? `The newest ${number(mostAlarms)} alarms are drawn; there are older ones.` : undefined
      }
    />
  );
}

function Strips({
  title,
  seen,
  devices,
  rows: all,
  pending,
  error,
  none,
  otherwise,
  legend,
  note,
}: {
  title: string;
  seen: Seen;
  devices: readonly Device[];
  rows: readonly Row[];
  pending: boolean;
  error?: string;
  none: string;
  otherwise: string;
  legend: readonly { says: string; fill: string }[];
  note?: string;
}) {
  const { from, to } = seen.times;
  const rows = all.slice(0, mostRows);
  return (
    <Frame
      title={title}
      aside={`${rows.length > 1 ? plural(all.length, "device") : (rows[0]?.device ?? "")} over ${lasting(to - from)}`}
    >
      {error ? (
        <None>{error}</None>
      ) : pending ? (
        <None>Loading…</None>
      ) : rows.length === 0 ? (
        <None>{devices.length === 0 ? "No device is chosen." : none}</None>
      ) : (
        <>
          {rows.map((r) => (
            <div
              key={r.device}
              className="relative grid grid-cols-[minmax(6rem,9rem)_minmax(0,1fr)] items-center gap-3 py-0.5"
            >
              <Link to={`/devices/${r.device}`} className="truncate hover:text-press">
                {devices.find((d) => d.id === r.device)?.name || r.device}
              </Link>
              <Crossed
                from={from}
                to={to}
                says={(t) => r.parts.findLast((p) => p.from <= t && t < p.to)?.says ?? otherwise}
              >
                <svg
                  viewBox="0 0 1000 10"
                  preserveAspectRatio="none"
                  className="h-3 w-full"
                  role="img"
                  aria-label={`${r.device}: ${r.summary}`}
                >
                  <rect y="4.5" width="1000" height="1" className="fill-line" />
                  {r.parts.map((p, i) => (
                    <rect
                      key={i}
                      x={(1000 * (p.from - from)) / (to - from)}
                      width={Math.max(1, (1000 * (p.to - p.from)) / (to - from))}
                      y="0"
                      height="10"
                      style={{ fill: p.fill }}
                    />
                  ))}
                </svg>
              </Crossed>
            </div>
          ))}
          <p className="flex flex-wrap gap-x-4 pt-1 text-[0.8125rem] text-muted">
            {legend.map((l) => (
              <span key={l.says} className="inline-flex items-center gap-1.5">
                <i aria-hidden className="inline-block size-2.5" style={{ background: l.fill }} />
                {l.says}
              </span>
            ))}
            {all.length > rows.length && <span>and {plural(all.length - rows.length, "device")} more</span>}
            {note && <span>{note}</span>}
          </p>
        </>
      )}
    </Frame>
  );
}
