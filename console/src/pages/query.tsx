import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import { api, ask, type Line } from "../api/client";
import { useFleet } from "../api/live";
import { About } from "../components/about";
import { colourOf, colours, Lines, type ManyLines } from "../components/lines";
import { Choice, Command, Empty, Notes, Trouble } from "../components/parts";
import { usePoint } from "../components/trace-point";
import { Where } from "../components/where";
import { labelKeys } from "../lib/example";
import { plural, say, words } from "../lib/format";
import { iso, spans, timesOf } from "../lib/history";
import { useScreen } from "../lib/screen";
import { grown } from "../lib/size";
import { useNow, useParam, useTitle, useTyped } from "../lib/use";

const steps = 400;
const sums = ["mean", "weighted_mean", "min", "max", "sum", "count", "last"] as const;
const ways = ["mean", "min", "max", "sum", "count"] as const;

// The Query page asks for one metric of many devices at once. All of the
// question is in the URL.
export default function QueryPage() {
  useTitle("Query");
  const now = useNow(10_000);
  const fleet = useFleet();
  const screen = useScreen();
  const [metric, setMetric] = useTyped("metric");
  const [where, setWhere] = useParam("where", "");
  const [span, setSpan] = useParam("span", "24h");
  const [aggregate, setAggregate] = useParam("aggregate", "mean");
  const [by, setBy] = useParam("group_by", "");
  const [then, setThen] = useParam("then", "mean");
  const [picked, setPicked] = useState(-1);
  const times = timesOf(span, now);
  const known = useMemo(
    () => [...new Set([...fleet.devices.values()].flatMap((d) => Object.keys(d.latest)))].sort(),
    [fleet.devices],
  );
  const labels = useMemo(() => labelKeys(fleet.devices.values()), [fleet.devices]);
  // Without a question the page opens with what is nearest to a limit.
  const opened = useRef(false);
  useEffect(() => {
    if (opened.current || known.length === 0) return;
    opened.current = true;
    if (metric !== "" || where !== "") return;
    const margins = [...fleet.devices.values()].flatMap((d) => d.margins.filter((m) => m.known));
    const least = margins.sort((a, b) => a.headspace - b.headspace)[0];
    setMetric(least?.metric ?? known[0]);
    if (labels.includes("site")) setBy("site");
  }, [known, labels, fleet.devices, metric, where, setMetric, setBy]);
  const answer = useQuery({
    queryKey: ["query", metric, where, span, times.from, times.to, aggregate, by, then],
    enabled: metric !== "" && known.includes(metric),
    placeholderData: (old, last) => (last?.queryKey[1] === metric ? old : undefined),
    retry: false,
    queryFn: () =>
      ask(
        api.GET("/api/v1/query", {
          params: {
            query: {
              metric: [metric],
              span: `${iso(times.from)}..${iso(times.to)}`,
              steps,
              aggregate: aggregate as (typeof sums)[number],
              ...(where && { where }),
              ...(by && { group_by: by, then: then as (typeof ways)[number] }),
            },
          },
        }),
      ),
  });
  const rows = useMemo(() => ranked(answer.data?.lines ?? [], aggregate), [answer.data, aggregate]);
  const named = words(by ? `${then} of ${aggregate}` : aggregate);
  const lines = useMemo<ManyLines[]>(
    () =>
      rows.map((r) => ({
        name: r.name,
        at: r.line.steps.map((p) => Date.parse(p.at) / 1000),
        value: r.line.steps.map((p) => p.value),
        ...(!sized(aggregate, by && then) && {
          min: r.line.steps.map((p) => p.min),
          max: r.line.steps.map((p) => p.max),
        }),
      })),
    [rows, aggregate, by, then],
  );
  const { onPoint, point } = usePoint();
  const field = "rounded-[4px] border border-muted bg-ground px-2 py-1 text-ink";
  const command = `ullage query ${metric || known[0] || "METRIC"} --span ${span.includes("..") ? `'${span}'` : span}${where ? ` --where '${where}'` : ""}${by ? ` --group-by ${by} --then ${then}` : where ? "" : " --where true"}${aggregate === "mean" ? "" : ` --aggregate ${aggregate}`}`;
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 py-3.5">
        <h1 className="text-[1.375rem] font-bold">{screen ? words(metric) : "Query"}</h1>
        {!screen && <About document="storage" what="how readings are stored" />}
        <p className="text-muted">
          {screen
            ? `${named}${by ? ` by ${by}` : ""}${where ? `, where ${where}` : ""}`
            : "one metric of many devices, over time"}
        </p>
      </div>
      {!screen && (
        <>
          <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pb-3">
            <input
              type="search"
              list="metrics"
              aria-label="Metric"
              placeholder={known[0] ? `Metric, such as ${known[0]}` : "Metric"}
              value={metric}
              onChange={(e) => setMetric(e.target.value)}
              className={`${field} w-56 font-mono`}
            />
            <datalist id="metrics">
              {known.map((n) => (
                <option key={n} value={n} />
              ))}
            </datalist>
            <Pick label="aggregate" value={aggregate} onChange={setAggregate} options={sums} />
            <label className="flex items-center gap-2 text-muted">
              group by
              <select value={by} onChange={(e) => setBy(e.target.value)} className={field}>
                <option value="">each device alone</option>
                {labels.map((l) => (
                  <option key={l}>{l}</option>
                ))}
              </select>
            </label>
            {by && <Pick label="then" value={then} onChange={setThen} options={ways} />}
            <Choice
              label="Span"
              options={spans}
              value={spans.some((s) => s.value === span) ? span : ""}
              onChange={setSpan}
            />
          </div>
          <div className="pb-3">
            <Where
              value={where}
              onChange={setWhere}
              label="Only of devices for which this condition is true"
              placeholder='Only of devices for which this is true, such as label.site == "Kilnside"'
            />
          </div>
        </>
      )}
      {answer.error && <Trouble>{answer.error.message}</Trouble>}
      <Notes lines={answer.data?.lines} />
      {metric === "" || !known.includes(metric) ? (
        <Empty
          title={metric === "" ? "Which metric?" : `No device has reported ${metric}`}
          why={known.length > 0 ? `There are ${known.join(", ")}.` : "No device has reported anything yet."}
          next={<Command>{command}</Command>}
        />
      ) : answer.data && rows.length === 0 ? (
        <Empty title="No reading in this span" why="Choose a longer span, or other devices." />
      ) : (
        <>
          <Lines
            lines={lines}
            from={times.from}
            to={times.to}
            height={
              screen
                ? Math.max(320, window.innerHeight - grown(250 + 34 * Math.min(rows.length, 12)))
                : grown(320)
            }
            picked={picked}
            summary={`${metric} of ${plural(rows.length, by ? "group" : "device")}.`}
            onPoint={
              screen
                ? undefined
                : (at, i) => {
                    const of = rows[i].line;
                    onPoint(
                      at,
                      of.device
                        ? { device: of.device, metric }
                        : {
                            metric,
                            together: { line: of, how: named, step: answer.data?.step ?? "", where, span },
                          },
                    );
                  }
            }
            onZoom={screen ? undefined : (a, b) => setSpan(`${iso(Math.round(a))}..${iso(Math.round(b))}`)}
          />
          {point}
          <p className="py-2 text-muted">
            {plural(rows.length, by ? "group" : "device")}
            {answer.data && `, a step every ${answer.data.step}`}
            {rows.length > colours && `; the ${colours} greatest have colours`}.{" "}
            {!screen && "Drag over the chart to look closer, press it for where a value is from."}
          </p>
          <table className="w-full border-collapse" onMouseLeave={() => setPicked(-1)}>
            <thead>
              <tr className="border-b border-line text-muted">
                <th scope="col" className="py-1 text-left font-normal">
                  {by || "device"}
                </th>
                {["least", named, "greatest", ...(by ? [] : ["last"])].map((h) => (
                  <th key={h} scope="col" className="py-1 pl-4 text-right font-normal">
                    {h}
                  </th>
                ))}
                <th scope="col" className="w-16 py-1 pl-2 text-left font-normal">
                  <span className="sr-only">unit</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {rows.map((r, i) => (
                <tr
                  key={r.name}
                  className="border-b border-line"
                  onMouseEnter={() => setPicked(i)}
                  onFocus={() => setPicked(i)}
                  data-line={r.name}
                >
                  <td className="py-1.5">
                    <span
                      aria-hidden="true"
                      className="mr-2 inline-block h-[3px] w-5 align-middle"
                      style={{ background: colourOf(i) }}
                    />
                    {r.line.device && !screen ? (
                      <Link
                        className="font-mono text-[0.875rem]"
                        to={`/devices/${r.line.device}/history?span=${encodeURIComponent(span)}`}
                      >
                        {r.name}
                      </Link>
                    ) : (
                      <>
                        {r.name}{" "}
                        {!r.line.device && (
                          <span className="text-muted">{plural(r.line.members ?? 0, "device")}</span>
                        )}
                      </>
                    )}
                  </td>
                  {[r.low, r.value, r.high, ...(by ? [] : [r.last])].map((v, k) => (
                    <td key={k} className="py-1.5 pl-4 text-right">
                      {say(v, r.line)}
                    </td>
                  ))}
                  <td className="py-1.5 pl-2 text-muted">{r.line.display}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {!screen && (
            <div className="py-4">
              <Command>{command}</Command>
            </div>
          )}
        </>
      )}
    </>
  );
}

function Pick({
  label,
  value,
  onChange,
  options,
}: {
  label: string;
  value: string;
  onChange: (v: string) => void;
  options: readonly string[];
}) {
  return (
    <label className="flex items-center gap-2 text-muted">
      {label}
      <select
        value={value}
        onChange={(e) => onChange(e.target.value)}
        className="rounded-[4px] border border-muted bg-ground px-2 py-1 text-ink"
      >
        {options.map((o) => (
          <option key={o}>{o}</option>
        ))}
      </select>
    </label>
  );
}

// sized reports whether the values of steps are counts or sums, which are on
// another scale than single readings.
const sized = (aggregate: string, then: string) =>
  ["sum", "count"].includes(aggregate) || ["sum", "count"].includes(then);

// overall sums the steps of a line up in the way of its aggregate.
function overall(line: Line, aggregate: string): number {
  const values = line.steps.map((p) => p.value);
  const n = line.steps.reduce((a, p) => a + p.count, 0);
  if (aggregate === "min") return Math.min(...values);
  if (aggregate === "max") return Math.max(...values);
  if (aggregate === "sum" || aggregate === "count") return values.reduce((a, b) => a + b, 0);
  if (aggregate === "first") return values[0];
  if (aggregate === "last") return values[values.length - 1];
  return line.steps.reduce((a, p) => a + p.value * p.count, 0) / n;
}

// ranked are the lines that have points, that with the greatest value first.
function ranked(lines: Line[], aggregate: string) {
  return lines
    .filter((l) => l.steps.length > 0 && l.type !== "text")
    .map((line) => {
      const last = line.steps[line.steps.length - 1];
      return {
        line,
        name: line.device || (line.group ?? "").replace(/^[^=]*=/, ""),
        low: Math.min(...line.steps.map((p) => p.min)),
        high: Math.max(...line.steps.map((p) => p.max)),
        value: overall(line, aggregate),
        last: typeof last.last === "number" ? last.last : last.value,
      };
    })
    .sort((a, b) => b.high - a.high);
}
