import { useMemo } from "react";
import { Link } from "react-router";
import type { Device, Instrument } from "../../api/client";
import { useChosen, useLines, useProperty, type Seen } from "../../lib/board";
import { lasting, number, plural, say, words } from "../../lib/format";
import { expectedGap, withGaps } from "../../lib/history";
import { css } from "../../lib/plot";
import { Lines, type ManyLines } from "../lines";
import { worst } from "../vessel";
import { about, Frame, grown, limitsNear, None, titleOf } from "./parts";

const most = 40; // lines that are drawn; more say nothing

// colourOf is the colour of a device's line: that of its alarm, or of its health, where it
// is abnormal. What is normal is grey.
function abnormal(d: Device | undefined): string | undefined {
  if (!d) return undefined;
  const alarm = worst(d);
  if (alarm) return `--${alarm.priority}`;
  return d.health === "watch" ? "--medium" : undefined;
}

export function Trace({ x, seen, height }: { x: Instrument; seen: Seen; height: number }) {
  const { devices, pending } = useChosen(seen.where);
  const p = useProperty(x.metrics?.[0] ?? "", devices);
  const answer = useLines(x.metrics ?? [], seen, { aggregate: x.aggregate, groupBy: x.group_by });
  const by = useMemo(() => new Map(devices.map((d) => [d.id, d])), [devices]);
  const several = (x.metrics?.length ?? 0) > 1;
  const rows = useMemo(
    () =>
      (answer.data?.lines ?? [])
        .filter((l) => l.steps.length > 0 && l.type !== "text")
        .map((l) => {
          const d = l.device ? by.get(l.device) : undefined;
          const data = withGaps(
            l.steps,
            expectedGap(d?.interval ?? "1min", seen.times.to - seen.times.from, 240),
          );
          const of = l.device ?? (l.group ?? "").replace(/^[^=]*=/, "");
          return { d, data, name: several ? `${of} ${words(l.metric)}` : of };
        })
        .sort(
          (a, b) =>
            Number(Boolean(abnormal(a.d))) - Number(Boolean(abnormal(b.d))) ||
            (a.data.mean.at(-1) ?? 0) - (b.data.mean.at(-1) ?? 0),
        )
        .slice(-most),
    [answer.data, by, several, seen.times.from, seen.times.to],
  );
  const lines = useMemo<ManyLines[]>(
    () =>
      rows.map((r) => ({
        name: r.name,
        at: r.data.at,
        value: r.data.mean,
        ...(rows.length <= 2 && { min: r.data.min, max: r.data.max }),
      })),
    [rows],
  );
  const limits = useMemo(
    () =>
      several
        ? []
        : limitsNear(devices, x.metrics?.[0] ?? "").map((l) => ({
            value: l.value,
            name: `${words(l.rule)}, ${say(l.value, p)} ${p?.display ?? ""}`,
          })),
    [devices, several, x.metrics, p],
  );
  const limitKey = limits.map((l) => l.name).join();
  // eslint-disable-next-line react-hooks/exhaustive-deps -- the same limits are the same
  const steady = useMemo(() => limits, [limitKey]);
  const bad = rows.filter((r) => abnormal(r.d));
  // With few lines, or several metrics, each has a colour of its own; else what is normal is grey.
  const own = several || x.group_by !== undefined || rows.length <= 2;
  const paint = (i: number) => {
    const c = abnormal(rows[i]?.d);
    if (c && !several) return css(c);
    return own ? css(`--line-${(i % 8) + 1}`) : css("--muted");
  };
  const span = seen.times.to - seen.times.from;
  const unit = p?.display ?? "";
  const summary = `${titleOf(x, p)} over ${lasting(span)}: ${rows
    .slice(-8)
    .map((r) => {
      const known = r.data.mean.filter((v): v is number => v !== null);
      return `${r.name} ${say(known.at(-1), p)} ${unit}`;
    })
    .join(", ")}`;
  return (
    <Frame
      title={titleOf(x, p)}
      aside={`${x.group_by ? plural(rows.length, "group") : about(devices)}${unit ? `, ${unit}` : ""}`}
    >
      {answer.error ? (
        <None>{answer.error.message}</None>
      ) : answer.isPending || pending ? (
        <None>Loading…</None>
      ) : rows.length === 0 ? (
        <None>{devices.length === 0 ? "No device is chosen." : `No readings in ${lasting(span)}.`}</None>
      ) : (
        <>
          <Lines
            lines={lines}
            from={seen.times.from}
            to={seen.times.to}
            height={Math.max(height - grown(own && rows.length > 3 ? 86 : 64), 80)}
            picked={-1}
            summary={summary}
            colour={paint}
            limits={steady}
            usual={several ? undefined : (p?.usual as number[] | undefined)}
          />
          <p
            className="flex flex-wrap gap-x-3 overflow-hidden text-[0.8125rem] whitespace-nowrap text-muted"
            style={{ maxHeight: "2.5rem" }}
          >
            {(rows.length === 1 ? [] : own ? rows : bad)
              .slice(-8)
              .reverse()
              .map((r) => (
                <span key={r.name} className="inline-flex items-center gap-1.5">
                  <i
                    aria-hidden
                    className="inline-block h-0.5 w-3"
                    style={{ background: paint(rows.indexOf(r)) }}
                  />
                  {r.d ? (
                    <Link to={`/devices/${r.d.id}`} className="hover:text-press">
                      {r.name}
                    </Link>
                  ) : (
                    r.name
                  )}
                </span>
              ))}
            {!own && rows.length > bad.length && (
              <span>
                {bad.length
                  ? `and ${number(rows.length - bad.length)} others, in grey`
                  : `${number(rows.length)} lines, all sound`}
              </span>
            )}
          </p>
        </>
      )}
    </Frame>
  );
}

// Strip shows states over time, a row for each device.
export function Strip({ x, seen }: { x: Instrument; seen: Seen }) {
  const metric = x.metrics?.[0] ?? "";
  const { devices, pending } = useChosen(seen.where);
  const p = useProperty(metric, devices);
  const answer = useLines([metric], seen, { aggregate: "last", steps: 200 });
  const { from, to } = seen.times;
  const rows = (answer.data?.lines ?? []).filter((l) => l.steps.length > 0).slice(0, 60);
  const states = [...new Set(rows.flatMap((l) => l.steps.map((s) => String(s.last ?? s.value))))].sort();
  const two = states.every((s) => ["true", "false", "0", "1"].includes(s));
  const fill = (s: string) =>
    two
      ? s === "true" || s === "1"
        ? "var(--muted)"
        : "var(--line)"
      : `var(--line-${(states.indexOf(s) % 8) + 1})`;
  const said = (s: string) => (two ? (s === "true" || s === "1" ? "on" : "off") : s);
  return (
    <Frame
      title={titleOf(x, p)}
      aside={`${rows.length > 1 ? plural(rows.length, "device") : (rows[0]?.device ?? "")} over ${lasting(to - from)}`}
    >
      {answer.error ? (
        <None>{answer.error.message}</None>
      ) : answer.isPending || pending ? (
        <None>Loading…</None>
      ) : rows.length === 0 ? (
        <None>
          {devices.length === 0 ? "No device is chosen." : `Nothing came in ${lasting(to - from)}.`}
        </None>
      ) : (
        <>
          {rows.map((l) => {
            const d = devices.find((o) => o.id === l.device);
            const gap = expectedGap(d?.interval ?? "1min", to - from, 200);
            const parts: { from: number; to: number; s: string }[] = [];
            l.steps.forEach((s, i) => {
              const at = Date.parse(s.at);
              const next = i + 1 < l.steps.length ? Date.parse(l.steps[i + 1].at) : Math.min(at + gap, to);
              const state = String(s.last ?? s.value);
              const end = Math.min(next, at + gap); // a gap is not bridged
              const last = parts.at(-1);
              if (last && last.s === state && last.to >= at - 1) last.to = end;
              else parts.push({ from: at, to: end, s: state });
            });
            const share = (s: string) =>
              parts.filter((q) => q.s === s).reduce((n, q) => n + q.to - q.from, 0) /
              Math.max(
                1,
                parts.reduce((n, q) => n + q.to - q.from, 0),
              );
            return (
              <div
                key={l.device}
                className="grid grid-cols-[minmax(6rem,9rem)_minmax(0,1fr)] items-center gap-3 py-0.5"
              >
                <Link to={`/devices/${l.device}`} className="truncate hover:text-press">
                  {d?.name || l.device}
                </Link>
                <svg
                  viewBox={`0 0 1000 10`}
                  preserveAspectRatio="none"
                  className="h-3 w-full"
                  role="img"
                  aria-label={`${l.device}: ${states.map((s) => `${said(s)} ${number(100 * share(s), 0)} %`).join(", ")}`}
                >
                  {parts.map((q) => (
                    <rect
                      key={q.from}
                      x={(1000 * (q.from - from)) / (to - from)}
                      width={Math.max(1, (1000 * (q.to - q.from)) / (to - from))}
                      y="0"
                      height="10"
                      style={{ fill: fill(q.s) }}
                    />
                  ))}
                </svg>
              </div>
            );
          })}
          <p className="flex gap-4 pt-1 text-[0.8125rem] text-muted">
            {states.slice(0, 8).map((s) => (
              <span key={s} className="inline-flex items-center gap-1.5">
                <i aria-hidden className="inline-block size-2.5" style={{ background: fill(s) }} />
                {said(s)}
              </span>
            ))}
          </p>
        </>
      )}
    </Frame>
  );
}
