import { useMemo } from "react";
import type { Instrument } from "../../api/client";
import { useChosen, useLines, useProperty, type Seen } from "../../lib/board";
import { lasting, minuteOf, number, plural, say, words } from "../../lib/format";
import { msOf, timeLabels } from "../../lib/history";
import { grown } from "../../lib/size";
import { Crossed } from "./crossed";
import { about, Frame, None, NoneYet, titleOf } from "./parts";
import { mean, reduce } from "./reduce";

const mostBars = 400; // more are thinner than a gap between them

// StepBars shows a bar for each step of time, of all its devices together. Steps without
// readings stay empty.
export function StepBars({ x, seen, height }: { x: Instrument; seen: Seen; height: number }) {
  const metric = x.metrics?.[0] ?? "";
  const aggregate = x.aggregate ?? "mean";
  const { devices, pending } = useChosen(seen.where);
  const p = useProperty(metric, devices);
  const { from, to } = seen.times;
  const step = msOf(x.step);
  const tooMany = (to - from) / step > mostBars;
  const answer = useLines([metric], seen, { aggregate, step: x.step, enabled: !tooMany });
  const bars = useMemo(() => {
    const by = new Map<number, number[]>();
    for (const l of answer.data?.lines ?? [])
      for (const s of l.steps) {
        const at = Date.parse(s.at);
        by.set(at, [...(by.get(at) ?? []), s.value]);
      }
    // How many readings came from each device are many together.
    const whole = aggregate === "count" ? reduce.sum : (reduce[aggregate] ?? mean);
    return [...by].sort((a, b) => a[0] - b[0]).map(([at, v]) => ({ at, value: whole(v) }));
  }, [answer.data, aggregate]);
  const sending = answer.data?.lines.filter((l) => l.steps.length > 0).length ?? 0;
  const low = Math.min(...bars.map((b) => b.value));
  const high = Math.max(...bars.map((b) => b.value));
  // A bar stands for a quantity, so it begins at nothing, unless all are far from it.
  const base = low > 0 && low > 0.6 * high ? low - 0.3 * (high - low || high) : Math.min(0, low);
  const top = Math.max(high, base + 1e-9);
  // As many labels as there is room for, each under the begin of its bar.
  const every = Math.max(1, Math.ceil(bars.length / 8));
  const unit = p?.display ?? "";
  const says = (value: number) =>
    `${say(value, p ?? { decimals: 1 })} ${aggregate === "count" ? "" : unit}`.trim();
  // From the first bar, which may begin before the span, to the end of the last.
  const begin = Math.min(from, bars[0]?.at ?? from);
  const end = Math.max(to, (bars.at(-1)?.at ?? to) + step);
  const part = (at: number) => (at - begin) / (end - begin);
  return (
    <Frame
      title={titleOf(x, p)}
      aside={`${words(aggregate)} of each ${lasting(step)}, ${devices.length === 1 ? about(devices) : plural(sending, "device")}`}
    >
      {tooMany ? (
        <None>
          {lasting(to - from)} in steps of {lasting(step)} are more than {number(mostBars)} bars. Choose a
          longer step, or a shorter span.
        </None>
      ) : answer.error ? (
        <None>{answer.error.message}</None>
      ) : bars.length === 0 ? (
        answer.isPending || pending || devices.length === 0 ? (
          <NoneYet pending={answer.isPending || pending} devices={devices} metric={metric} />
        ) : (
          <None>Nothing came in {lasting(to - from)}.</None>
        )
      ) : (
        <figure className="m-0">
          <div className="flex gap-2">
            <div
              aria-hidden
              className="flex flex-col justify-between text-right text-[0.75rem] whitespace-nowrap text-muted tabular-nums"
            >
              <span>{says(top)}</span>
              <span>{says(base)}</span>
            </div>
            <div className="min-w-0 flex-1">
              <Crossed
                from={begin}
                to={end}
                says={(t) => {
                  const b = bars.find((o) => o.at <= t && t < o.at + step);
                  return b ? `${minuteOf(b.at)}: ${says(b.value)}` : "nothing came";
                }}
              >
                <svg
                  viewBox="0 0 1000 100"
                  preserveAspectRatio="none"
                  className="block w-full border-b border-muted"
                  style={{ height: Math.max(height - grown(66), 60) }}
                  aria-hidden
                >
                  {bars.map((b) => (
                    <rect
                      key={b.at}
                      x={1000 * part(b.at) + 1}
                      width={Math.max(1, (1000 * step) / (end - begin) - 2)}
                      y={100 - (100 * (b.value - base)) / (top - base)}
                      height={Math.max(0.5, (100 * (b.value - base)) / (top - base))}
                      style={{ fill: "var(--muted)" }}
                    />
                  ))}
                </svg>
              </Crossed>
              <div aria-hidden className="relative h-4 text-[0.75rem] text-muted tabular-nums">
                {bars
                  .filter((b, i) => i % every === 0 && (part(b.at) < 0.92 || i === 0))
                  .map((b) => (
                    <span
                      key={b.at}
                      className="absolute whitespace-nowrap"
                      style={{ left: `${100 * part(b.at)}%` }}
                    >
                      {timeLabels(undefined, [b.at / 1000])[0]}
                    </span>
                  ))}
              </div>
            </div>
          </div>
          <figcaption className="sr-only">
            {titleOf(x, p)}, {words(aggregate)} of each {lasting(step)}:{" "}
            {bars
              .slice(-24)
              .map((b) => `${minuteOf(b.at)} ${says(b.value)}`)
              .join(", ")}
          </figcaption>
          {base !== 0 && low > 0 && (
            <p className="text-[0.8125rem] text-muted">The bars begin at {says(base)}, not at 0.</p>
          )}
        </figure>
      )}
    </Frame>
  );
}
