import { useMemo, type ReactNode } from "react";
import { Link } from "react-router";
import type { Device, Instrument } from "../../api/client";
import { useForecast } from "../../api/forecast";
import { useAlarmsOf, useChosen, useLines, useProperty, type Seen } from "../../lib/board";
import { useCrosshair } from "../../lib/crosshair";
import { lasting, minuteOf, number, plural, say, words } from "../../lib/format";
import { expectedGap, msOf, withGaps } from "../../lib/history";
import { css } from "../../lib/plot";
import { useScreen } from "../../lib/screen";
import { grown } from "../../lib/size";
import { Lines, valueAt, type ManyLines } from "../lines";
import { usePoint, type PointOf } from "../trace-point";
import { worst } from "../vessel";
import { about, Frame, limitsNear, None, titleOf } from "./parts";

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
  const asked = { aggregate: x.aggregate, groupBy: x.group_by };
  const answer = useLines(x.metrics ?? [], seen, asked);
  const before = msOf(x.compare);
  const { from, to } = seen.times;
  const past = useLines(
    x.metrics ?? [],
    { ...seen, times: { ...seen.times, from: from - before, to: to - before } },
    { ...asked, enabled: before > 0 },
  );
  const one = devices.length === 1 ? devices[0] : undefined;
  // A forecast is of what comes after now.
  const ahead = one && seen.times.live && !seen.asOf && p?.type !== "boolean" ? (x.forecast ?? "") : "";
  const forecast = useForecast(one?.id ?? "", x.metrics?.[0] ?? "", ahead, one !== undefined);
  const screen = useScreen();
  const { onPoint, point } = usePoint();
  const alarms = useAlarmsOf(one, x.metrics?.[0] ?? "", seen.now);
  // A chart is drawn anew when devices look otherwise, and not with every reading.
  const looks = devices.map((d) => `${d.id} ${d.interval} ${abnormal(d)}`).join();
  // eslint-disable-next-line react-hooks/exhaustive-deps -- what else changes of them is not drawn
  const by = useMemo(() => new Map(devices.map((d) => [d.id, d])), [looks]);
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
          return {
            d,
            data,
            of: l.device ?? l.group,
            metric: l.metric,
            line: l,
            name: several ? `${of} ${words(l.metric)}` : of,
          };
        })
        .sort(
          (a, b) =>
            Number(Boolean(abnormal(a.d))) - Number(Boolean(abnormal(b.d))) ||
            (a.data.mean.at(-1) ?? 0) - (b.data.mean.at(-1) ?? 0),
        )
        .slice(-most),
    [answer.data, by, several, seen.times.from, seen.times.to],
  );
  // Beside each line that of before, of the same colour, and at last what is forecast.
  const { lines, owner } = useMemo(() => {
    const lines: ManyLines[] = rows.map((r) => ({
      name: r.name,
      at: r.data.at,
      value: r.data.mean,
      ...(rows.length <= 2 && { min: r.data.min, max: r.data.max }),
    }));
    const owner = rows.map((_, i) => i);
    if (before > 0)
      rows.forEach((r, i) => {
        const was = past.data?.lines?.find((l) => (l.device ?? l.group) === r.of && l.metric === r.metric);
        if (!was?.steps.length) return;
        const gap = expectedGap(r.d?.interval ?? "1min", to - from, 240);
        const d = withGaps(was.steps, gap, before);
        lines.push({ name: `${r.name}, before`, at: d.at, value: d.mean, drawn: "before" });
        owner.push(i);
      });
    if (ahead !== "" && forecast.data && rows.length === 1) {
      const steps = forecast.data.steps;
      lines.push({
        name: "forecast",
        at: steps.map((s) => Date.parse(s.at) / 1000),
        value: steps.map((s) => s.mean),
        min: steps.map((s) => s.low),
        max: steps.map((s) => s.high),
        drawn: "ahead",
      });
      owner.push(0);
    }
    return { lines, owner };
  }, [rows, before, past.data, ahead, forecast.data, from, to]);
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
  const pointOf = (i: number): PointOf => {
    const { line, metric, d } = rows[owner[i] ?? i];
    if (d) return { device: d.id, metric };
    return {
      metric,
      together: {
        line,
        how: words(x.aggregate ?? "mean"),
        step: answer.data?.step ?? "",
        where: seen.where,
        span: seen.span,
      },
    };
  };
  const span = to - from;
  const unit = p?.display ?? "";
  const last = ahead === "" ? undefined : forecast.data?.steps.at(-1);
  const summary = `${titleOf(x, p)} over ${lasting(span)}: ${rows
    .slice(-8)
    .map((r) => {
      const known = r.data.mean.filter((v): v is number => v !== null);
      return `${r.name} ${say(known.at(-1), p)} ${unit}`;
    })
    .join(", ")}${last ? `; in ${ahead} probably ${say(last.mean, p)} ${unit}` : ""}`;
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
            from={from}
            to={to + (last ? msOf(ahead) : 0)}
            height={Math.max(height - grown(own && rows.length > 3 ? 86 : 64), 80)}
            picked={-1}
            summary={summary}
            onPoint={screen ? undefined : (at, i) => onPoint(at, pointOf(i))}
            colour={(i) => paint(owner[i] ?? i)}
            limits={steady}
            alarms={several ? undefined : alarms}
            usual={several ? undefined : (p?.usual as number[] | undefined)}
          />
          {point}
          <p
            className="flex flex-wrap gap-x-3 overflow-hidden text-[0.8125rem] whitespace-nowrap text-muted"
            style={{ maxHeight: "2.5rem" }}
          >
            <Under
              from={from}
              to={to}
              says={(t) =>
                rows
                  .map((r, i) => ({ i, name: r.name, v: valueAt(r.data.at, r.data.mean, t / 1000) }))
                  .filter((r) => r.v !== null)
                  .reverse()
                  .slice(0, 8)
                  .map((r) => (
                    <span key={r.name} className="inline-flex items-center gap-1.5">
                      <i aria-hidden className="inline-block h-0.5 w-3" style={{ background: paint(r.i) }} />
                      {rows.length > 1 && `${r.name} `}
                      <b className="font-semibold text-ink">{say(r.v!, p)}</b>
                      {!several && unit}
                    </span>
                  ))
              }
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
              {lines.some((l) => l.drawn === "before") && (
                <span className="inline-flex items-center gap-1.5">
                  <i aria-hidden className="inline-block w-4 border-t border-dashed border-current" />
                  {lasting(before)} before
                </span>
              )}
              {last ? (
                <span
                  className="inline-flex items-center gap-1.5"
                  title="With 95 % it lies within the shaded band"
                >
                  <i aria-hidden className="inline-block w-4 border-t-2 border-dotted border-current" />
                  in {lasting(msOf(ahead))} probably {say(last.mean, p)} {unit}, {say(last.low, p)} to{" "}
                  {say(last.high, p)}
                </span>
              ) : (
                ahead !== "" && forecast.error && <span>no forecast: {forecast.error.message}</span>
              )}
              {!own && rows.length > bad.length && (
                <span>
                  {bad.length
                    ? `and ${number(rows.length - bad.length)} others, in grey`
                    : `${number(rows.length)} lines, all sound`}
                </span>
              )}
            </Under>
          </p>
        </>
      )}
    </Frame>
  );
}

// Under says what stands under the crosshair of the page, in the place of something else.
function Under({
  from,
  to,
  says,
  children,
}: {
  from: number;
  to: number;
  says: (t: number) => ReactNode;
  children: ReactNode;
}) {
  const cross = useCrosshair();
  if (cross === null || cross < from || cross > to) return children;
  return (
    <>
      <span>{minuteOf(cross)}</span>
      {says(cross)}
    </>
  );
}
