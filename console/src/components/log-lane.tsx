import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef } from "react";
import uPlot from "uplot";
import { api, ask } from "../api/client";
import { page, useCrosshair } from "../lib/crosshair";
import { plural } from "../lib/format";
import { iso } from "../lib/history";
import { axes, css, dot, inZone, mount } from "../lib/plot";
import { written } from "../lib/prefer";
import { grown } from "../lib/size";
import { gravity } from "./log-look";

const most = 1000; // lines of a span
const near = 5; // lines that are shown as text

const graver: Record<string, string> = { error: "--urgent", warn: "--medium" };

// LogLane is what a device wrote into its log, on the time axis of the traces above it: a tick for
// each line, and in words those before the crosshair.
export function LogLane({ device, from, to }: { device: string; from: number; to: number }) {
  const answer = useQuery({
    queryKey: ["log", device, Math.round(from / 10_000), Math.round(to / 10_000)],
    placeholderData: (old, last) => (last?.queryKey[1] === device ? old : undefined),
    queryFn: () =>
      ask(
        api.GET("/api/v1/devices/{id}/log", {
          params: { path: { id: device }, query: { from: iso(from), to: iso(to), limit: most } },
        }),
      ),
  });
  const lines = useMemo(() => [...(answer.data?.lines ?? [])].reverse(), [answer.data]);
  const cross = useCrosshair();
  if (!answer.data || lines.length === 0) return null;
  const before = cross === null ? lines : lines.filter((l) => Date.parse(l.at) <= cross);
  return (
    <div
      className="grid grid-cols-1 border-b border-line py-2 sm:grid-cols-[9.25rem_minmax(0,1fr)]"
      role="group"
      aria-label="Log on the same time axis"
    >
      <div className="pr-2">
        <h3 className="text-[0.8125rem] font-semibold">Log</h3>
        <p className="text-[0.8125rem] text-muted">
          {lines.length === most ? `the last ${plural(most, "line")}` : plural(lines.length, "line")}
        </p>
      </div>
      <div className="min-w-0">
        <Ticks lines={lines} from={from} to={to} />
        <ol className="pl-[2.875rem] font-mono text-[0.8125rem]" aria-live="off">
          {before.length === 0 && (
            <li className="font-sans text-muted">Nothing was written before that in this span.</li>
          )}
          {before.slice(-near).map((l) => (
            <li key={l.number} className="grid grid-cols-[5.5rem_3.5rem_minmax(0,1fr)] gap-x-3">
              <time dateTime={l.at} className="text-muted">
                {written(Date.parse(l.at), { hour: "2-digit", minute: "2-digit", second: "2-digit" })}
              </time>
              <span className={gravity(l.level)}>{l.level}</span>
              <span className="truncate" title={l.text}>
                {l.text}
              </span>
            </li>
          ))}
        </ol>
      </div>
    </div>
  );
}

function Ticks({
  lines,
  from,
  to,
}: {
  lines: readonly { at: string; level: string }[];
  from: number;
  to: number;
}) {
  const holder = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(undefined);
  const live = useRef({ lines, from, to });
  useEffect(() => {
    live.current = { lines, from, to };
    plot.current?.setData([
      [from / 1000, to / 1000],
      [0, 0],
    ]);
  }, [lines, from, to]);
  const height = grown(34);
  useEffect(
    () =>
      mount(
        holder.current!,
        plot,
        height,
        (width) =>
          new uPlot(
            {
              width,
              height,
              tzDate: inZone,
              legend: { show: false },
              cursor: {
                drag: { x: false, y: false },
                points: { show: false },
                y: false,
                sync: { key: page, scales: ["x", null] },
              },
              scales: {
                x: { time: true, range: () => [live.current.from / 1000, live.current.to / 1000] },
                y: { range: () => [0, 1] },
              },
              axes: axes(
                { size: 4, values: () => [], grid: { show: false } },
                { values: () => [], grid: { show: false } },
              ),
              series: [{}, { show: false }],
              hooks: { draw: [(u) => drawTicks(u, live.current.lines)] },
            },
            [
              [live.current.from / 1000, live.current.to / 1000],
              [0, 0],
            ],
            holder.current!,
          ),
      ),
    [height],
  );
  return <div ref={holder} aria-hidden="true" />;
}

// drawTicks draws a tick for each line, the graver ones longer and at last.
function drawTicks(u: uPlot, lines: readonly { at: string; level: string }[]) {
  const { ctx, bbox } = u;
  ctx.save();
  ctx.lineWidth = 1.5 * dot();
  for (const grave of [false, true])
    for (const l of lines) {
      const colour = graver[l.level];
      if (Boolean(colour) !== grave) continue;
      const x = u.valToPos(Date.parse(l.at) / 1000, "x", true);
      ctx.strokeStyle = css(colour ?? "--muted");
      ctx.beginPath();
      ctx.moveTo(x, bbox.top + bbox.height * (grave ? 0 : 0.45));
      ctx.lineTo(x, bbox.top + bbox.height);
      ctx.stroke();
    }
  ctx.restore();
}
