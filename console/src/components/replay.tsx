import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import { api, ask, type Device, type Rule, type Schemas } from "../api/client";
import { useFleet } from "../api/live";
import { draggable, withLimit } from "../lib/condition";
import { called, lasting, number, plural } from "../lib/format";
import { expectedGap, withGaps } from "../lib/history";
import { grown } from "../lib/size";
import { useDelayed } from "../lib/use";
import { Choice, Trouble } from "./parts";
import { Trace, type AlarmSpan } from "./trace";

type Line = Schemas["ReplayLine"];
type One = Schemas["ReplayOne"];
type Side = Schemas["ReplaySide"];
type Summary = Schemas["ReplaySummary"];

interface Found {
  summary?: Summary;
  ones: One[];
  progress?: { done: number; of: number };
  error?: string;
  raise?: string; // the condition that was replayed
}

// replay asks what a rule would have done, line by line.
async function replay(body: Schemas["ReplayAsk"], signal: AbortSignal, told: (f: Found) => void) {
  const answer = await fetch("/api/v1/replays", {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify(body),
    signal,
  });
  if (!answer.ok) throw new Error(((await answer.json()) as { detail?: string }).detail ?? answer.statusText);
  const found: Found = { ones: [] };
  const reader = answer.body!.pipeThrough(new TextDecoderStream()).getReader();
  let rest = "";
  for (;;) {
    const { value, done } = await reader.read();
    rest += value ?? "";
    const lines = rest.split("\n");
    rest = lines.pop() ?? "";
    for (const text of lines) {
      const l = JSON.parse(text) as Line;
      if (l.error) throw new Error(l.error);
      if (l.device) found.ones.push(l.device);
      if (l.progress) found.progress = l.progress;
      if (l.summary) found.summary = l.summary;
    }
    if (found.summary || lines.length) told({ ...found, ones: [...found.ones] });
    if (done) return;
  }
}

const spans = ["24h", "7d", "30d", "90d"];

// Replay shows what a rule would have done, beside what the version in force would have.
export function Replay({
  rule,
  wrong,
  waiting,
  onRule,
}: {
  rule?: Rule;
  wrong: boolean;
  waiting: boolean; // it is not known yet whether the rule is right
  onRule: (change: Partial<Rule>) => void;
}) {
  const [span, setSpan] = useState("30d");
  const [found, setFound] = useState<Found>();
  const [trouble, setTrouble] = useState("");
  const [busy, setBusy] = useState(false);
  const stop = useRef<AbortController>(undefined);
  const text = useDelayed(JSON.stringify(rule), 100);
  const given = useRef(rule);
  useEffect(() => {
    given.current = rule;
  });
  useEffect(() => {
    if (wrong || waiting || !text || text !== JSON.stringify(given.current)) return;
    stop.current?.abort();
    const mine = new AbortController();
    stop.current = mine;
    // Nothing is drawn again for what takes no time.
    const slow = window.setTimeout(() => setBusy(true), 150);
    replay({ rule: JSON.parse(text) as Rule, span, spans: true }, mine.signal, (f) => {
      if (mine.signal.aborted) return;
      if (f.summary) setFound({ ...f, raise: (JSON.parse(text) as Rule).raise });
      else setFound((old) => ({ ones: [], ...old, progress: f.progress }));
    })
      .then(
        () => setTrouble(""),
        (e: Error) => mine.signal.aborted || setTrouble(e.message),
      )
      .finally(() => {
        window.clearTimeout(slow);
        if (!mine.signal.aborted) setBusy(false);
      });
    return () => {
      window.clearTimeout(slow);
      mine.abort();
    };
  }, [text, span, wrong, waiting]);
  const s = found?.summary;
  const same = s?.in_force && s.in_force.alarms === s.this.alarms && s.in_force.raised === s.this.raised;
  const ones = useMemo(
    () =>
      [...(found?.ones ?? [])].sort(
        (a, b) =>
          Math.max(b.this.alarms, b.in_force?.alarms ?? 0) -
            Math.max(a.this.alarms, a.in_force?.alarms ?? 0) ||
          a.subject.localeCompare(b.subject, undefined, { numeric: true }),
      ),
    [found],
  );
  return (
    <section aria-label="Replay" className="min-w-0">
      <div className="flex flex-wrap items-baseline gap-x-3 gap-y-1 pb-1.5">
        <h2 className="text-base font-semibold">Replay</h2>
        <p className="text-muted" role="status">
          {wrong
            ? "once the rule is right"
            : busy
              ? found?.progress
                ? `${found.progress.done} of ${found.progress.of} devices…`
                : "…"
              : s &&
                `${number(s.readings)} readings in ${s.seconds < 0.1 ? s.seconds.toFixed(2) : s.seconds.toFixed(1)} s`}
          {busy && (
            <button
              type="button"
              className="pl-3 text-press"
              onClick={() => {
                stop.current?.abort();
                setBusy(false);
              }}
            >
              Break off
            </button>
          )}
        </p>
        <div className="ml-auto">
          <Choice
            label="Over which time"
            value={span}
            onChange={setSpan}
            options={spans.map((x) => ({ value: x, name: x.replace(/(\d)([a-z])/, "$1 $2") }))}
          />
        </div>
      </div>
      {trouble && <Trouble>{trouble}</Trouble>}
      {s && (
        <table className="w-full border-t border-line">
          <thead>
            <tr className="text-muted">
              <th />
              {["alarms", "a day", "chattering", "time raised", "headspace lost"].map((h) => (
                <th key={h} className="py-1 text-right font-normal">
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {s.in_force && !same && <SideRow name="in force" side={s.in_force} />}
            <SideRow name={same ? "as in force" : "this one"} side={s.this} own />
          </tbody>
        </table>
      )}
      {s && (s.this.suppressed || s.this.out_of_service) ? (
        <p className="border-t border-line py-1.5">
          When they were raised,{" "}
          {[
            s.this.suppressed && `${number(s.this.suppressed)} were suppressed by design`,
            s.this.out_of_service && `${number(s.this.out_of_service)} were out of service for maintenance`,
          ]
            .filter(Boolean)
            .join(" and ")}
          ; these would have called nobody.
        </p>
      ) : null}
      {s?.responses?.map((r) => (
        <p key={r.does} className="border-t border-line py-1.5">
          By itself it <b className="font-semibold">{r.does}</b>: {plural(r.acts, "time")} on{" "}
          {plural(r.devices, "device")}
          {r.seconds > 0 && `, for ${lasting(r.seconds * 1000)}`}
          {r.held_back > 0 && (
            <span className="text-watch">; held back {plural(r.held_back, "time")} by its limit an hour</span>
          )}
          {r.nowhere ? `; for ${plural(r.nowhere, "alarm")} there was no device to act on` : ""}
        </p>
      ))}
      {s && s.devices === 0 && <p className="py-2 text-muted">The rule is for no device that you see.</p>}
      {rule &&
        ones
          .slice(0, 6)
          .map((o) => (
            <OneTrace
              key={o.subject}
              one={o}
              rule={rule}
              raise={found?.raise ?? rule.raise}
              span={s}
              onRule={onRule}
            />
          ))}
      {ones.length > 6 && (
        <p className="pt-2 text-muted">
          and {plural(ones.length - 6, "more", "more")}, of which{" "}
          {ones.slice(6).filter((o) => o.this.alarms > 0).length} would have had alarms
        </p>
      )}
      <p className="pt-3 text-muted">
        What would have been with all readings on time, and with the settings, labels, groups and maintenance
        of then. Drag a limit or the dotted line of the deadband in a chart; nothing is in force until you put
        it there.
      </p>
    </section>
  );
}

function SideRow({ name, side: x, own }: { name: string; side: Side; own?: boolean }) {
  const cell = "border-t border-line py-1.5 text-right";
  return (
    <tr className={own ? "font-semibold" : ""}>
      <td className="border-t border-line py-1.5">{name}</td>
      <td className={cell}>{number(x.alarms)}</td>
      <td className={cell}>{x.a_day < 10 ? x.a_day.toFixed(1) : number(Math.round(x.a_day))}</td>
      <td className={`${cell} ${x.chattering_devices ? "text-watch" : ""}`}>
        {x.chattering_devices ? `${plural(x.chattering_devices, "device")}, ${number(x.chattering)}` : "none"}
      </td>
      <td className={cell}>{lasting(x.raised * 1000)}</td>
      <td className={cell}>
        {x.headspace_lost === undefined ? "–" : `${Math.round(x.headspace_lost * 100)} %`}
      </td>
    </tr>
  );
}

// OneTrace draws what a device measured, with when the rule would have been raised, and a
// limit and a deadband to drag.
function OneTrace({
  one,
  rule,
  raise,
  span,
  onRule,
}: {
  one: One;
  rule: Rule;
  raise: string; // the condition that was replayed
  span?: Summary;
  onRule: (change: Partial<Rule>) => void;
}) {
  const { devices } = useFleet();
  const device: Device | undefined = devices.get(one.subject);
  const drag = draggable(rule.raise);
  const margin = device?.margins.find((m) => m.rule === rule.rule);
  const metric = draggable(raise)?.metric ?? margin?.metric ?? /^[a-z][a-z0-9_]*/.exec(raise)?.[0] ?? "";
  const from = span?.from ?? "";
  const to = span?.to ?? "";
  // Whole minutes, so that it need not be asked for again at each replay.
  const minute = (at: string, round: (x: number) => number) =>
    at ? new Date(round(Date.parse(at) / 60_000) * 60_000).toISOString() : "";
  const begin = minute(from, Math.floor);
  const end = minute(to, Math.ceil);
  const lines = useQuery({
    queryKey: ["lines", one.subject, metric, begin, end],
    enabled: Boolean(device && metric && from),
    placeholderData: (old) => old,
    staleTime: 60_000,
    queryFn: () =>
      ask(
        api.GET("/api/v1/query", {
          params: {
            query: {
              device: [one.subject],
              metric: [metric],
              span: `${begin}..${end}`,
              steps: 400,
            },
          },
        }),
      ),
  });
  const width = Date.parse(to) - Date.parse(from);
  const line = lines.data?.lines[0];
  const data = useMemo(
    () => withGaps(line?.steps ?? [], expectedGap(device?.interval ?? "1min", width, 400)),
    [line, device?.interval, width],
  );
  const alarms = useMemo<AlarmSpan[]>(
    () =>
      (one.this.spans ?? []).map((x) => ({
        from: Date.parse(x.from) / 1000,
        to: Date.parse(x.to ?? to) / 1000,
        priority: rule.priority,
      })),
    [one.this.spans, to, rule.priority],
  );
  const limit = drag?.limit ?? one.this.spans?.at(-1)?.limit ?? margin?.limit;
  const upward = drag?.upward ?? margin?.upward ?? true;
  const limits = useMemo(
    () => (limit === undefined ? [] : [{ value: limit, upward, name: "" }]),
    [limit, upward],
  );
  return (
    <article className="border-t border-line pt-1.5">
      <div className="flex items-baseline gap-3">
        <Link
          to={device ? `/devices/${one.subject}/history` : "/alarms"}
          className={device?.name ? "" : "font-mono text-[0.8125rem] font-semibold"}
        >
          {device ? called(device) : one.subject}
        </Link>
        <span className="ml-auto text-muted">
          {one.in_force && one.in_force.alarms !== one.this.alarms && `${number(one.in_force.alarms)} → `}
          <b className="text-ink">{number(one.this.alarms)}</b> {one.this.alarms === 1 ? "alarm" : "alarms"}
        </span>
      </div>
      {device && data.at.length > 0 && (
        <Trace
          data={data}
          from={Date.parse(from) / 1000}
          to={Date.parse(to) / 1000}
          height={grown(108)}
          limits={limits}
          decimals={-1}
          unit=""
          alarms={alarms}
          deadband={
            limit === undefined
              ? undefined
              : upward
                ? limit - (rule.deadband ?? 0)
                : limit + (rule.deadband ?? 0)
          }
          onLimit={drag && ((v) => onRule({ raise: withLimit(rule.raise, v) }))}
          onDeadband={
            limit === undefined || rule.clear
              ? undefined
              : (v) => onRule({ deadband: Math.max(0, rounded(upward ? limit - v : v - limit)) || undefined })
          }
          summary={`${one.subject}: ${plural(one.this.alarms, "alarm")} would have been raised`}
        />
      )}
    </article>
  );
}

// rounded leaves three digits of a number, as much as a hand on a mouse can mean.
const rounded = (x: number) => Number(x.toPrecision(3));
