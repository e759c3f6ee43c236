import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask, type Schemas } from "../api/client";
import { useFleet } from "../api/live";
import { Badge } from "../components/badge";
import { Choice, Empty, Trouble } from "../components/parts";
import { absolute, called, lasting, number, plural, priorities, words } from "../lib/format";
import { useParam, useTitle } from "../lib/use";
import { AlarmTabs } from "./alarms";

type Performance = Schemas["AlarmPerformance"];
type Worst = Schemas["WorstOf"];

const spans = ["24h", "7d", "30d", "90d"];
const percent = (x: number) => `${x > 0 && x < 0.1 ? (x * 100).toFixed(1) : Math.round(x * 100)} %`;
const few = (x: number) => (x < 10 ? x.toFixed(1) : number(Math.round(x)));

// PerformancePage is how well the alarms themselves work, each measure beside what the
// standard asks for.
export default function PerformancePage() {
  useTitle("Performance of the alarms");
  const [span, setSpan] = useParam("span", "7d");
  const [operators, setOperators] = useParam("operators", "1");
  const n = Math.max(1, Number(operators) || 1);
  const found = useQuery({
    queryKey: ["alarms", "performance", span, n],
    placeholderData: (old) => old,
    refetchInterval: 60_000,
    queryFn: () => ask(api.GET("/api/v1/alarm-performance", { params: { query: { span, operators: n } } })),
  });
  const p = found.data;
  return (
    <>
      <AlarmTabs />
      <div className="flex flex-wrap items-center gap-x-5 gap-y-2 pb-3">
        <Choice
          label="Over which time"
          value={span}
          onChange={setSpan}
          options={spans.map((x) => ({ value: x, name: x.replace(/(\d)([a-z])/, "$1 $2") }))}
        />
        <label className="flex items-center gap-2 text-muted">
          operators
          <input
            type="number"
            min={1}
            max={1000}
            value={operators}
            onChange={(e) => setOperators(e.target.value)}
            className="w-16 rounded-[4px] border border-muted bg-ground px-2 py-1 text-right text-ink"
          />
        </label>
        <p className="text-muted">counts are for each operator, targets those of ISA-18.2 and EEMUA 191</p>
      </div>
      {found.error && <Trouble>{found.error.message}</Trouble>}
      {!p ? (
        <p className="text-muted">{found.isPending ? "Measuring…" : ""}</p>
      ) : p.alarms === 0 ? (
        <Empty
          title="No alarm has called anybody in that time"
          why={`Alarms that were shelved, suppressed or out of service do not count.${p.shelved ? ` ${plural(p.shelved, "shelf", "shelves")} are on now.` : ""}`}
          next={
            <button type="button" className="text-press underline" onClick={() => setSpan("90d")}>
              Look at 90 days
            </button>
          }
        />
      ) : (
        <Measures p={p} />
      )}
    </>
  );
}

function Measures({ p }: { p: Performance }) {
  const { devices } = useFleet();
  const hour = p.targets.a_day / 24;
  return (
    <>
      <div className="grid gap-x-8 border-t border-line sm:grid-cols-2 lg:grid-cols-4">
        <Measure
          name="alarms a day"
          is={few(p.a_day)}
          good={p.a_day <= p.targets.a_day}
          target={`${p.targets.a_day} are acceptable, ${p.targets.most_a_day} the most`}
          bar={p.a_day / p.targets.most_a_day}
        />
        <Measure
          name="alarms an hour"
          is={few(p.an_hour)}
          good={p.an_hour <= hour}
          target={`${hour} are acceptable`}
          bar={p.an_hour / (2 * hour)}
        />
        <Measure
          name="most in 10 minutes"
          is={number(p.peak)}
          good={p.peak <= p.targets.peak}
          target={`${p.targets.peak} at most${p.peak_at ? `; at ${absolute(p.peak_at)}` : ""}`}
          bar={p.peak / (2 * p.targets.peak)}
        />
        <Measure
          name="time in flood"
          is={percent(p.flood_share)}
          good={p.flood_share <= p.targets.flood_share}
          target={`under ${percent(p.targets.flood_share)}; ${plural(p.floods, "flood")}, ${lasting(p.in_flood * 1000)}`}
          bar={p.flood_share / (2 * p.targets.flood_share)}
        />
        <Measure
          name="chattering"
          is={number(p.chattering)}
          good={p.chattering === 0}
          target="none: three of one kind within 60 s"
          bar={p.chattering / Math.max(p.alarms, 1)}
        />
        <Measure
          name="fleeting"
          is={number(p.fleeting)}
          good={p.fleeting === 0}
          target="none: over within 60 s, before anybody acted"
          bar={p.fleeting / Math.max(p.alarms, 1)}
        />
        <Measure
          name="stale"
          is={number(p.stale)}
          good={p.stale <= p.targets.stale}
          target={`${p.targets.stale} at most that last over 24 h`}
          bar={p.stale / (2 * p.targets.stale)}
        />
        <Measure
          name="until acknowledged"
          is={p.acknowledged ? lasting(p.time_to_acknowledge * 1000) : "nobody has"}
          good
          target={
            p.acknowledged
              ? `in the median; 95 % within ${lasting(p.time_to_acknowledge_p95 * 1000)}; ${number(p.alarms - p.acknowledged)} were not`
              : `${plural(p.alarms, "alarm")} without an answer`
          }
        />
      </div>
      <div className="grid gap-x-8 gap-y-4 pt-4 lg:grid-cols-2">
        <section aria-label="Days">
          <h2 className="pb-1 font-semibold">Alarms of each day</h2>
          <Days p={p} />
        </section>
        <section aria-label="Priorities">
          <h2 className="pb-1 font-semibold">Split of the priorities</h2>
          <ul className="border-t border-line">
            {priorities.map((name) => {
              const share = (p.priorities[name] ?? 0) / p.alarms;
              const target = p.targets.priorities[name] ?? 0;
              return (
                <li
                  key={name}
                  className="grid grid-cols-[6rem_minmax(0,1fr)_3.5rem_7.5rem] items-center gap-3 border-b border-line py-1.5"
                >
                  <span className="flex items-center gap-2">
                    <Badge priority={name} /> {name}
                  </span>
                  <Bar share={share} mark={target} />
                  <b className="text-right">{percent(share)}</b>
                  <span className="text-muted">target {percent(target)}</span>
                </li>
              );
            })}
          </ul>
        </section>
        <WorstList
          title="Rules that make most of it"
          all={p.rules}
          link={(w) => `/rules/${w.name}?beside=suggestions`}
          name={(w) => words(w.name)}
        />
        <WorstList
          title="Devices that make most of it"
          all={p.devices}
          link={(w) => (devices.has(w.name) ? `/devices/${w.name}/rules` : "/alarms")}
          name={(w) => {
            const d = devices.get(w.name);
            return d ? called(d) : w.name.replace("=", " ");
          }}
        />
      </div>
      <p className="pt-3 text-muted">
        The ten worst rules on a device make {percent(p.top_ten)} of all; the target is under{" "}
        {percent(p.targets.top_ten)}. Now {plural(p.shelved, "shelf", "shelves")}, {number(p.suppressed)}{" "}
        suppressed, {number(p.out_of_service)} out of service.
      </p>
    </>
  );
}

function Measure({
  name,
  is,
  good,
  target,
  bar,
}: {
  name: string;
  is: string;
  good: boolean;
  target: string;
  bar?: number;
}) {
  return (
    <div className="border-b border-line py-3">
      <p className="text-muted">{name}</p>
      <p className={`text-[1.75rem] leading-tight font-bold ${good ? "" : "text-watch"}`}>{is}</p>
      {bar !== undefined && <Bar share={Math.min(bar, 1)} over={!good} />}
      <p className="pt-0.5 text-muted">
        {!good && <b className="text-watch">over it: </b>}
        {target}
      </p>
    </div>
  );
}

function Bar({ share, mark, over }: { share: number; mark?: number; over?: boolean }) {
  return (
    <span className="relative block h-1.5 bg-band" aria-hidden>
      <span
        className={`absolute inset-y-0 left-0 ${over ? "bg-watch" : "bg-muted"}`}
        style={{ width: `${Math.min(share, 1) * 100}%` }}
      />
      {mark !== undefined && (
        <span className="absolute -inset-y-1 w-0.5 bg-ink" style={{ left: `${mark * 100}%` }} />
      )}
    </span>
  );
}

function Days({ p }: { p: Performance }) {
  const most = Math.max(...p.days, 4);
  const limit = p.targets.a_day * p.operators;
  return (
    <div
      className="relative flex h-36 items-end gap-px border-b border-line"
      role="img"
      aria-label={`Alarms of each day, at most ${Math.max(...p.days)}`}
    >
      {p.days.map((n, i) => {
        const day = new Date(Date.parse(p.from) + i * 86_400_000).toISOString();
        return (
          <span
            key={i}
            title={`${absolute(day).split(",")[0]}: ${plural(n, "alarm")}`}
            className={`min-w-0 flex-1 ${n > limit ? "bg-watch" : "bg-muted"}`}
            style={{ height: `${(n / most) * 100}%` }}
          />
        );
      })}
      {limit <= most && (
        <span
          className="absolute inset-x-0 border-t border-dashed border-ink"
          style={{ bottom: `${(limit / most) * 100}%` }}
        />
      )}
      <span className="absolute top-0 left-0 text-muted">{number(Math.round(most))}</span>
    </div>
  );
}

function WorstList({
  title,
  all,
  link,
  name,
}: {
  title: string;
  all: Worst[];
  link: (w: Worst) => string;
  name: (w: Worst) => string;
}) {
  return (
    <section aria-label={title}>
      <h2 className="pb-1 font-semibold">{title}</h2>
      <ul className="border-t border-line">
        {all.map((w) => (
          <li
            key={w.name}
            className="grid grid-cols-[minmax(0,1fr)_3rem_3.5rem_auto] items-baseline gap-3 border-b border-line py-1.5"
          >
            <Link to={link(w)} className="truncate">
              {name(w)}
            </Link>
            <b className="text-right">{number(w.alarms)}</b>
            <span className="text-right text-muted">{percent(w.share)}</span>
            <span className="w-36 truncate text-muted">
              {w.chattering > 0
                ? `${number(w.chattering)} chattering`
                : w.fleeting > 0 && `${number(w.fleeting)} fleeting`}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
