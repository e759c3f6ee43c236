import { useMemo } from "react";
import { Link } from "react-router";
import type { Device, Instrument, Property } from "../../api/client";
import { latestOf, useChosen, useLines, useProperty, type Seen } from "../../lib/board";
import { ago, lasting, number, plural, say, words } from "../../lib/format";
import { grown } from "../../lib/size";
import { worst } from "../vessel";
import { about, Frame, limitsNear, NoneYet, titleOf } from "./parts";
import { mean, reduce } from "./reduce";

// rangeOf is what a scale goes over: the range of the model, or else what is usual, the
// limits and the value, with some room.
function rangeOf(p: Property | undefined, limits: { value: number }[], values: number[]): [number, number] {
  const known = [...(p?.usual ?? []), ...limits.map((l) => l.value), ...values];
  const [a, b] = [Math.min(...known), Math.max(...known)];
  const room = 0.25 * (b - a || Math.abs(b) || 1);
  let [low, high] = [a - room, b + room];
  if (p?.minimum !== undefined && low < p.minimum) low = Math.min(p.minimum, a);
  if (p?.maximum !== undefined && high > p.maximum) high = Math.max(p.maximum, b);
  return [low, high];
}

// nearest is the device that is nearest to a limit, of those that have the metric.
function nearest(devices: readonly Device[], metric: string): Device | undefined {
  const head = (d: Device) =>
    Math.min(1, ...d.margins.filter((m) => m.metric === metric && m.known).map((m) => m.headspace));
  return devices.filter((d) => latestOf(d, metric) !== undefined).sort((a, b) => head(a) - head(b))[0];
}

export function Dial({ x, seen }: { x: Instrument; seen: Seen }) {
  const metric = x.metrics?.[0] ?? "";
  const { devices, pending } = useChosen(seen.where);
  const p = useProperty(metric, devices);
  const d = nearest(devices, metric);
  const value = d && latestOf(d, metric);
  const limits = d ? limitsNear([d], metric) : [];
  const aside = d ? (
    <Link to={`/devices/${d.id}`} className="hover:text-press">
      {devices.length > 1 ? `nearest of ${devices.length}: ` : ""}
      {d.id}
    </Link>
  ) : undefined;
  if (!d || value === undefined)
    return (
      <Frame title={titleOf(x, p)}>
        <NoneYet pending={pending} devices={devices} metric={metric} />
      </Frame>
    );
  const [low, high] = rangeOf(p, limits, [value]);
  const at = (v: number) => Math.min(1, Math.max(0, (v - low) / (high - low)));
  const alarm = worst(d);
  const over = limits.some((l) => (l.upward ? value > l.value : value < l.value));
  const colour = over ? `var(--${alarm?.priority ?? "medium"})` : "var(--ink)";
  const stale = d.link === "silent";
  const usual = p?.usual as number[] | undefined;
  const said = `${say(value, p)} ${p?.display ?? ""}${usual ? `, usual ${say(usual[0], p)} to ${say(usual[1], p)}` : ""}${limits.map((l) => `, limit ${say(l.value, p)}`).join("")}`;
  return (
    <Frame title={titleOf(x, p)} aside={aside}>
      <div className={stale ? "stale" : ""}>
        <p className="pt-1 text-[1.625rem] leading-tight font-bold tabular-nums" style={{ color: colour }}>
          {say(value, p)} <span className="text-base font-normal text-muted">{p?.display}</span>
          {stale && (
            <span className="pl-2 text-base font-normal text-muted">
              {ago(d.latest[metric]?.at, seen.now)}
            </span>
          )}
        </p>
        {x.linear ? (
          <Bar
            at={at}
            low={low}
            high={high}
            value={value}
            usual={usual}
            limits={limits}
            colour={colour}
            p={p}
            said={said}
          />
        ) : (
          <Arc at={at} value={value} usual={usual} limits={limits} colour={colour} said={said} />
        )}
      </div>
    </Frame>
  );
}

interface Scale {
  at: (v: number) => number;
  value: number;
  usual?: number[];
  limits: { value: number; rule: string }[];
  colour: string;
  said: string;
}

function Bar({
  at,
  low,
  high,
  value,
  usual,
  limits,
  colour,
  p,
  said,
}: Scale & { low: number; high: number; p?: Property }) {
  return (
    <div role="img" aria-label={said} className="pt-1">
      <svg viewBox="0 0 400 30" preserveAspectRatio="none" className="h-7 w-full">
        <rect
          x="1"
          y="12"
          width="398"
          height="10"
          rx="5"
          fill="none"
          style={{ stroke: "var(--muted)" }}
          vectorEffect="non-scaling-stroke"
        />
        {usual && (
          <rect
            x={400 * at(usual[0])}
            width={Math.max(2, 400 * (at(usual[1]) - at(usual[0])))}
            y="14"
            height="6"
            style={{ fill: "var(--line)" }}
          />
        )}
        {limits.map((l) => (
          <line
            key={l.rule + l.value}
            x1={400 * at(l.value)}
            x2={400 * at(l.value)}
            y1="6"
            y2="28"
            strokeDasharray="3 2"
            style={{ stroke: "var(--ink)" }}
            vectorEffect="non-scaling-stroke"
          />
        ))}
        <path d={`M${400 * at(value) - 7} 4h14l-7 12z`} style={{ fill: colour }} />
      </svg>
      <p className="relative h-5 text-[0.8125rem] text-muted">
        {!limits.some((l) => at(l.value) < 0.3) && <span className="absolute left-0">{say(low, p)}</span>}
        {[...limits]
          .sort((a, b) => Math.abs(a.value - value) - Math.abs(b.value - value))
          .slice(0, 1)
          .map((l) => (
            <span
              key={l.rule}
              className="absolute -translate-x-1/2 whitespace-nowrap"
              style={{ left: `${Math.min(85, Math.max(15, 100 * at(l.value)))}%` }}
              title={words(l.rule)}
            >
              limit {say(l.value, p)}
            </span>
          ))}
        {!limits.some((l) => at(l.value) > 0.7) && <span className="absolute right-0">{say(high, p)}</span>}
      </p>
    </div>
  );
}

function Arc({ at, value, usual, limits, colour, said }: Scale) {
  const point = (share: number, r: number) => {
    const a = Math.PI * (1 - share);
    return `${100 + r * Math.cos(a)} ${100 - r * Math.sin(a)}`;
  };
  const arc = (from: number, to: number, r: number) => `M${point(from, r)}A${r} ${r} 0 0 1 ${point(to, r)}`;
  return (
    <svg viewBox="0 0 200 108" className="mx-auto block max-h-28 w-full" role="img" aria-label={said}>
      <path d={arc(0, 1, 84)} fill="none" strokeWidth="12" style={{ stroke: "var(--line)" }} />
      {usual && (
        <path
          d={arc(at(usual[0]), at(usual[1]), 84)}
          fill="none"
          strokeWidth="12"
          style={{ stroke: "var(--muted)" }}
        />
      )}
      {limits.map((l) => (
        <path
          key={l.rule + l.value}
          d={`M${point(at(l.value), 74)}L${point(at(l.value), 96)}`}
          strokeWidth="2"
          strokeDasharray="3 2"
          style={{ stroke: "var(--ink)" }}
        />
      ))}
      <path d={`M100 100L${point(at(value), 80)}`} strokeWidth="4" style={{ stroke: colour }} />
      <circle cx="100" cy="100" r="6" style={{ fill: colour }} />
    </svg>
  );
}

export function Figure({ x, seen }: { x: Instrument; seen: Seen }) {
  const metric = x.metrics?.[0] ?? "";
  const aggregate = x.aggregate ?? "mean";
  const { devices, pending } = useChosen(seen.where);
  const p = useProperty(metric, devices);
  const answer = useLines([metric], seen, { aggregate, steps: 60 });
  // The devices together, step by step.
  const line = useMemo(() => {
    const by = new Map<number, number[]>();
    for (const l of answer.data?.lines ?? [])
      for (const s of l.steps) {
        const at = Date.parse(s.at);
        const held = by.get(at);
        if (held) held.push(s.value);
        else by.set(at, [s.value]);
      }
    return [...by].sort((a, b) => a[0] - b[0]).map(([at, v]) => ({ at, v: (reduce[aggregate] ?? mean)(v) }));
  }, [answer.data, aggregate]);
  const values = devices.map((d) => latestOf(d, metric)).filter((v): v is number => v !== undefined);
  const now = values.length ? (reduce[aggregate] ?? mean)(values) : undefined;
  const before = line[0]?.v;
  const change = now !== undefined && before !== undefined ? now - before : undefined;
  const [low, high] = [Math.min(...line.map((l) => l.v)), Math.max(...line.map((l) => l.v))];
  const path = line
    .map(
      (l, i) =>
        `${i ? "L" : "M"}${((l.at - line[0].at) / Math.max(1, line[line.length - 1].at - line[0].at)) * 200} ${28 - (26 * (l.v - low)) / (high - low || 1)}`,
    )
    .join("");
  return (
    <Frame
      title={titleOf(x, p)}
      aside={
        devices.length > 1 ? `${words(aggregate)} of ${plural(values.length, "device")}` : about(devices)
      }
    >
      {now === undefined ? (
        <NoneYet pending={pending} devices={devices} metric={metric} />
      ) : (
        <>
          <p className="pt-1 text-[2.25rem] leading-tight font-bold tabular-nums">
            {number(now, aggregate === "count" ? 0 : (p?.decimals ?? 1))}{" "}
            <span className="text-lg font-normal text-muted">{p?.display}</span>
          </p>
          {change !== undefined && (
            <p className="text-muted">
              {change === 0
                ? "as"
                : `${change > 0 ? "+" : "−"}${number(Math.abs(change), p?.decimals ?? 1)} ${p?.display ?? ""} since`}{" "}
              {lasting(seen.times.to - seen.times.from)} ago
            </p>
          )}
          {line.length > 2 && (
            <svg viewBox="0 0 200 30" preserveAspectRatio="none" className="h-8 w-full" aria-hidden>
              <path
                d={path}
                fill="none"
                strokeWidth="1.5"
                style={{ stroke: "var(--muted)" }}
                vectorEffect="non-scaling-stroke"
              />
            </svg>
          )}
        </>
      )}
    </Frame>
  );
}

export function Bars({ x, seen }: { x: Instrument; seen: Seen }) {
  const metric = x.metrics?.[0] ?? "";
  const { devices, pending } = useChosen(seen.where);
  const p = useProperty(metric, devices);
  const rows = useMemo(() => {
    const by = new Map<string, { values: number[]; device?: Device }>();
    for (const d of devices) {
      const v = latestOf(d, metric);
      if (v === undefined) continue;
      const key = x.group_by
        ? x.group_by === "model"
          ? d.model
          : (d.labels[x.group_by] ?? `no ${x.group_by}`)
        : d.id;
      const held = by.get(key) ?? { values: [], device: x.group_by ? undefined : d };
      held.values.push(v);
      by.set(key, held);
    }
    return [...by]
      .map(([name, h]) => ({ name, device: h.device, value: (reduce[x.aggregate ?? ""] ?? mean)(h.values) }))
      .sort((a, b) => b.value - a.value)
      .slice(0, 100);
  }, [devices, metric, x.group_by, x.aggregate]);
  const low = Math.min(...rows.map((r) => r.value));
  const high = Math.max(...rows.map((r) => r.value));
  // A bar stands for a quantity, so it begins at nothing, unless all are far from it.
  const base = low > 0 && low > 0.6 * high ? low - 0.3 * (high - low || high) : Math.min(0, low);
  return (
    <Frame title={titleOf(x, p)} aside="now">
      {rows.length === 0 ? (
        <NoneYet pending={pending} devices={devices} metric={metric} />
      ) : (
        <table className="w-full">
          <caption className="sr-only">{titleOf(x, p)}, the greatest first</caption>
          <tbody>
            {rows.map((r) => {
              const alarm = r.device && worst(r.device);
              return (
                <tr key={r.name}>
                  <th scope="row" className="max-w-36 truncate py-0.5 pr-3 text-left font-normal">
                    {r.device ? (
                      <Link to={`/devices/${r.name}`} className="hover:text-press">
                        {r.device.name || r.name}
                      </Link>
                    ) : (
                      r.name
                    )}
                  </th>
                  <td className="w-full py-0.5">
                    <span className="block h-2.5 bg-line">
                      <span
                        className="block h-full"
                        style={{
                          width: `${(100 * (r.value - base)) / (high - base || 1)}%`,
                          background: alarm ? `var(--${alarm.priority})` : "var(--muted)",
                        }}
                      />
                    </span>
                  </td>
                  <td className="py-0.5 pl-3 text-right whitespace-nowrap tabular-nums">
                    {say(r.value, p ?? { decimals: 1 })} <span className="text-muted">{p?.display}</span>
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
      )}
      {base > 0 && rows.length > 0 && (
        <p className="text-[0.8125rem] text-muted">
          The bars begin at {say(base, p ?? { decimals: 1 })}, not at 0.
        </p>
      )}
    </Frame>
  );
}

const bins = 14;

export function Histogram({ x, seen, height }: { x: Instrument; seen: Seen; height: number }) {
  const metric = x.metrics?.[0] ?? "";
  const { devices, pending } = useChosen(seen.where);
  const p = useProperty(metric, devices);
  const values = devices.map((d) => latestOf(d, metric)).filter((v): v is number => v !== undefined);
  const limits = limitsNear(devices, metric);
  if (values.length === 0)
    return (
      <Frame title={titleOf(x, p)}>
        <NoneYet pending={pending} devices={devices} metric={metric} />
      </Frame>
    );
  const [low, high] = rangeOf(p, [], values);
  const counts = Array.from({ length: bins }, () => 0);
  for (const v of values)
    counts[Math.min(bins - 1, Math.max(0, Math.floor(((v - low) / (high - low || 1)) * bins)))]++;
  const most = Math.max(...counts);
  const usual = p?.usual as number[] | undefined;
  const at = (v: number) => 400 * Math.min(1, Math.max(0, (v - low) / (high - low || 1)));
  const tall = Math.max(height - grown(78), 60);
  const median = [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)];
  return (
    <Frame title={titleOf(x, p)} aside={`${plural(values.length, "device")} now`}>
      <svg
        viewBox={`0 0 400 ${tall}`}
        preserveAspectRatio="none"
        className="block w-full"
        style={{ height: tall }}
        role="img"
        aria-label={`from ${say(Math.min(...values), p)} to ${say(Math.max(...values), p)} ${p?.display ?? ""}, median ${say(median, p)}`}
      >
        {usual && (
          <rect
            x={at(usual[0])}
            width={Math.max(1, at(usual[1]) - at(usual[0]))}
            y="0"
            height={tall}
            style={{ fill: "var(--line)", opacity: 0.5 }}
          />
        )}
        {counts.map((n, i) => (
          <rect
            key={i}
            x={(400 / bins) * i + 1}
            width={400 / bins - 2}
            y={tall - ((tall - 4) * n) / most}
            height={((tall - 4) * n) / most}
            style={{ fill: "var(--muted)" }}
          />
        ))}
        {limits
          .filter((l) => l.value > low && l.value < high)
          .map((l) => (
            <line
              key={l.rule + l.value}
              x1={at(l.value)}
              x2={at(l.value)}
              y1="0"
              y2={tall}
              strokeDasharray="4 3"
              style={{ stroke: "var(--ink)" }}
              vectorEffect="non-scaling-stroke"
            />
          ))}
      </svg>
      <p className="flex justify-between gap-3 text-[0.8125rem] whitespace-nowrap text-muted">
        <span>{say(low, p ?? { decimals: 1 })}</span>
        <span className="truncate">
          median {say(median, p)} {p?.display}
          {usual && ", usual shaded"}
        </span>
        <span>{say(high, p ?? { decimals: 1 })}</span>
      </p>
    </Frame>
  );
}
