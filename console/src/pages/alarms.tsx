import { useQuery } from "@tanstack/react-query";
import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, useState, type ReactNode } from "react";
import { Link, NavLink, useLocation, useNavigate } from "react-router";
import { api, ask, type Alarm, type Device } from "../api/client";
import { useFleet } from "../api/live";
import { About } from "../components/about";
import { Commenting, Shelving, useActs, type Verb } from "../components/alarm-acts";
import { Away, Sound, useSound } from "../components/alarm-attention";
import { Badge } from "../components/badge";
import { Button, Choice, Empty } from "../components/parts";
import { Where } from "../components/where";
import { byUrgency, calling, isAside, waits, why } from "../lib/alarms";
import { absolute, ago, called, lasting, plural, priorities, rank, say, soon, words } from "../lib/format";
import { useScreen } from "../lib/screen";
import { useDelayed, useNow, useParam, useTitle } from "../lib/use";

const most = 5000; // alarms that are listed

// every lists alarms page by page.
async function every(query: { all: boolean; where?: string; rule?: string }): Promise<Alarm[]> {
  const out: Alarm[] = [];
  const limit = query.all ? 500 : 1000;
  for (let before = ""; ; before = out[out.length - 1].id) {
    const page = await ask(
      api.GET("/api/v1/alarms", { params: { query: { ...query, before: before || undefined, limit } } }),
    );
    out.push(...page);
    if (page.length < limit || query.all || out.length >= most) return out;
  }
}

type Line = { head: string; n: number } | { alarm: Alarm };

const ages: Record<string, [string, (ms: number) => boolean]> = {
  "": ["of any age", () => true],
  new: ["of the last hour", (ms) => ms < 3600_000],
  day: ["of the last 24 h", (ms) => ms < 24 * 3600_000],
  old: ["older than 24 h", (ms) => ms >= 24 * 3600_000],
};

export default function AlarmsPage() {
  useTitle("Alarms");
  const { devices, service } = useFleet();
  const screen = useScreen();
  const [view, setView] = useParam("view", "calling");
  const [where, setWhere] = useParam("where", "");
  const [rule, setRule] = useParam("rule", "");
  const [only, setOnly] = useParam("priority", "");
  const [age, setAge] = useParam("age", "");
  const [group, setGroup] = useParam("group", "");
  const now = useNow();
  // Ask again whenever the live stream tells of another alarm or state, a few times a
  // second at most.
  const mark = useDelayed(
    [...[...devices.values()].flatMap((d) => d.alarms), ...(service?.groups ?? [])]
      .map((a) => a.id + a.state + a.priority)
      .join(),
    200,
  );
  const list = useQuery({
    queryKey: ["alarms", "list", view === "all", where, rule, mark],
    placeholderData: (old) => old,
    queryFn: () => every({ all: view === "all", where: where || undefined, rule: rule || undefined }),
  });
  const open = useMemo(() => list.data ?? [], [list.data]);
  const chosen = useMemo(() => (only ? only.split(",") : []), [only]);
  const minute = Math.floor(now / 60_000); // ages need not be looked at more often
  const rows = useMemo(() => {
    const within = (ages[age] ?? ages[""])[1];
    const out = open.filter(
      (a) =>
        (view === "all" || (view === "aside") === isAside(a)) &&
        (chosen.length === 0 || chosen.includes(a.priority)) &&
        within(minute * 60_000 - Date.parse(a.raised_at)),
    );
    if (view !== "all") out.sort(byUrgency);
    return out;
  }, [open, view, chosen, age, minute]);
  const lines = useMemo(() => grouped(rows, group, devices), [rows, group, devices]);
  const waiting = calling(open).filter(waits).length;
  const aside = open.filter(isAside).length;
  useSound(open);
  const toggle = (p: string) =>
    setOnly((chosen.includes(p) ? chosen.filter((x) => x !== p) : [...chosen, p]).join(","));
  const filtered = Boolean(where || rule || only || age);
  return (
    <>
      {screen ? <h1 className="py-3.5 text-[1.375rem] font-bold">Alarms</h1> : <AlarmTabs />}
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pb-3">
        <p>
          {view === "all" ? (
            <span className="text-muted">the latest {rows.length}</span>
          ) : (
            <>
              <b>{plural(calling(open).length, "alarm")}</b>
              <span className="text-muted">
                {" "}
                open, {waiting} unacknowledged
                {aside > 0 && `, ${aside} aside`}
              </span>
            </>
          )}
        </p>
        {!screen && (
          <>
            <Choice
              label="Which"
              value={view}
              onChange={setView}
              options={[
                { value: "calling", name: "Calling" },
                { value: "aside", name: aside ? `Aside ${aside}` : "Aside" },
                { value: "all", name: "All" },
              ]}
            />
            <div role="group" aria-label="Priorities" className="flex items-center gap-1">
              {priorities.map((p) => (
                <button
                  key={p}
                  type="button"
                  aria-pressed={chosen.includes(p)}
                  title={`only ${p}`}
                  onClick={() => toggle(p)}
                  className={`rounded-[4px] border px-1.5 py-1 ${chosen.includes(p) ? "border-line bg-surface" : "border-transparent"}`}
                >
                  <span
                    className={chosen.length && !chosen.includes(p) ? "block opacity-50 grayscale" : "block"}
                  >
                    <Badge priority={p} />
                  </span>
                </button>
              ))}
            </div>
            <Pick
              label="Age"
              value={age}
              onChange={setAge}
              options={Object.entries(ages).map(([k, [name]]) => [k, name])}
            />
            <Pick
              label="Group by"
              value={group}
              onChange={setGroup}
              options={[
                ["", "not grouped"],
                ["site", "by site"],
                ["rule", "by rule"],
                ["device", "by device"],
              ]}
            />
            <Sound />
          </>
        )}
      </div>
      {rule && (
        <p className="pb-3">
          of the rule{" "}
          <Link to={`/rules/${encodeURIComponent(rule)}`} className="font-mono">
            {rule}
          </Link>{" "}
          <Button onClick={() => setRule("")}>Show all rules</Button>
        </p>
      )}
      <div className="pb-3">
        <Where
          value={where}
          onChange={setWhere}
          label="Filter alarms by a condition on their device"
          placeholder="Only of devices for which this is true"
        />
      </div>
      {!screen && view !== "all" && <Away alarms={open} now={now} />}
      {list.isPending ? (
        <p className="text-muted">Loading…</p>
      ) : list.error ? (
        <p className="text-urgent">{list.error.message}</p>
      ) : rows.length === 0 ? (
        <Empty
          title={
            filtered
              ? "No alarm is like that"
              : view === "calling"
                ? "No alarm is open"
                : view === "aside"
                  ? "No alarm stands aside"
                  : "There was no alarm yet"
          }
          why={
            filtered
              ? "The filters leave none of them."
              : view === "aside"
                ? "Shelved and suppressed alarms, and those of devices in maintenance, are listed here."
                : "Alarms appear here by themselves when a rule raises one."
          }
          next={
            filtered ? (
              <Link to="/alarms" className="text-press underline">
                Show all open ones
              </Link>
            ) : (
              <Link to="/" className="text-press underline">
                See who is nearest to a limit
              </Link>
            )
          }
        />
      ) : (
        <List lines={lines} now={now} devices={devices} still={Boolean(screen)} />
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
  options: string[][];
}) {
  return (
    <select
      aria-label={label}
      value={value}
      onChange={(e) => onChange(e.target.value)}
      className={`rounded-[4px] border bg-ground px-1.5 py-1 ${value ? "border-muted text-ink" : "border-line text-muted"}`}
    >
      {options.map(([v, name]) => (
        <option key={v} value={v}>
          {name}
        </option>
      ))}
    </select>
  );
}

// grouped puts a head before the alarms of each group; groups stand in the order of their
// most urgent alarm.
function grouped(rows: Alarm[], by: string, devices: ReadonlyMap<string, Device>): Line[] {
  if (!by) return rows.map((alarm) => ({ alarm }));
  const of = (a: Alarm) => {
    if (by === "rule") return words(a.rule);
    const d = devices.get(a.device);
    if (by === "device") return d ? called(d) : a.device || nameOf(a.group ?? "");
    return d?.labels.site ?? (a.group?.startsWith("site=") ? nameOf(a.group) : "no site");
  };
  const groups = new Map<string, Alarm[]>();
  for (const a of rows) groups.set(of(a), [...(groups.get(of(a)) ?? []), a]);
  return [...groups].flatMap(([head, all]) => [{ head, n: all.length }, ...all.map((alarm) => ({ alarm }))]);
}

const nameOf = (group: string) => group.split("=").slice(1).join("=");

// List shows alarms, of which some can be marked, and does what the keys say.
function List({
  lines,
  now,
  devices,
  still,
}: {
  lines: Line[];
  now: number;
  devices: ReadonlyMap<string, Device>;
  still: boolean; // nothing can be done here
}) {
  const box = useRef<HTMLUListElement>(null);
  const [at, setAt] = useState("");
  const [marked, setMarked] = useState<ReadonlySet<string>>(new Set());
  const [asking, setAsking] = useState<{ verb: "shelve" | "comment"; alarms: Alarm[] }>();
  const act = useActs();
  const navigate = useNavigate();
  const alarms = useMemo(() => lines.flatMap((l) => ("alarm" in l ? [l.alarm] : [])), [lines]);
  const [top, setTop] = useState(0);
  useEffect(() => {
    const look = () => setTop(box.current?.offsetTop ?? 0);
    look();
    window.addEventListener("resize", look);
    return () => window.removeEventListener("resize", look);
  }, []);
  const long = lines.length > 120;
  const virtual = useWindowVirtualizer({
    count: lines.length,
    estimateSize: (i) => ("head" in lines[i] ? 40 : 68),
    overscan: 10,
    scrollMargin: top,
    getItemKey: (i) => {
      const l = lines[i];
      return "head" in l ? `head ${l.head}` : l.alarm.id;
    },
  });
  const chosen = alarms.filter((a) => marked.has(a.id));
  const mine = chosen.length ? chosen : alarms.filter((a) => a.id === at);
  const run = (verb: Verb, of: Alarm[]) => {
    if (verb === "shelve" || verb === "comment") return void setAsking({ verb, alarms: of });
    const can = of.filter((a) => (verb === "acknowledge" ? a.may_acknowledge : a.may_act));
    void act(
      verb,
      can.map((a) => a.id),
    ).then((ok) => ok && of === chosen && setMarked(new Set()));
  };
  const mark = (id: string) =>
    setMarked((old) => {
      const next = new Set(old);
      if (!next.delete(id)) next.add(id);
      return next;
    });
  const state = useRef({ alarms, at, mine, run, mark });
  useEffect(() => {
    state.current = { alarms, at, mine, run, mark };
  });
  useEffect(() => {
    if (still) return;
    const keys = (e: KeyboardEvent) => {
      const from = e.target as HTMLElement;
      if (e.ctrlKey || e.metaKey || e.altKey) return;
      if (from.closest("input:not([type=checkbox]), textarea, select, [contenteditable], [role=dialog]"))
        return;
      const { alarms, at, mine, run, mark } = state.current;
      const i = alarms.findIndex((a) => a.id === at);
      const to = (n: number) => {
        const next = alarms[Math.min(Math.max(n, 0), alarms.length - 1)];
        if (!next) return;
        setAt(next.id);
        const line = lines.findIndex((l) => "alarm" in l && l.alarm.id === next.id);
        if (long) virtual.scrollToIndex(line, { align: "auto" });
        window.requestAnimationFrame(() =>
          document.getElementById(`alarm-${next.id}`)?.scrollIntoView({ block: "nearest" }),
        );
      };
      const does: Record<string, () => void> = {
        ArrowDown: () => to(i + 1),
        j: () => to(i + 1),
        ArrowUp: () => to(i < 0 ? 0 : i - 1),
        k: () => to(i < 0 ? 0 : i - 1),
        a: () => mine.length && run("acknowledge", mine),
        s: () => mine.length && run("shelve", mine),
        c: () => mine.length && run("comment", mine),
        r: () => mine.length && run("reset", mine),
        x: () => at && mark(at),
        Escape: () => setMarked(new Set()),
        o: () => at && navigate(`/alarms/${at}`),
      };
      if (e.key === "Enter" && at && from === document.body) does.o();
      else if (does[e.key]) {
        e.preventDefault();
        does[e.key]();
      }
    };
    window.addEventListener("keydown", keys);
    return () => window.removeEventListener("keydown", keys);
  }, [still, lines, long, virtual, navigate]);
  const draw = (l: Line): ReactNode =>
    "head" in l ? (
      <h2 className="flex items-baseline gap-2 pt-3 pb-1 font-semibold">
        {l.head} <span className="font-normal text-muted">{l.n}</span>
      </h2>
    ) : (
      <Row
        alarm={l.alarm}
        now={now}
        device={devices.get(l.alarm.device)}
        at={l.alarm.id === at}
        marked={marked.has(l.alarm.id)}
        onMark={still ? undefined : () => mark(l.alarm.id)}
        onAct={(verb) => run(verb, [l.alarm])}
      />
    );
  return (
    <>
      {!still && (
        <div className="sticky top-0 z-10 flex min-h-10 flex-wrap items-center gap-x-4 gap-y-1 border-b border-line bg-ground py-1">
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              aria-label="Mark all"
              checked={chosen.length > 0 && chosen.length === alarms.length}
              ref={(x) => {
                if (x) x.indeterminate = chosen.length > 0 && chosen.length < alarms.length;
              }}
              onChange={(e) => setMarked(new Set(e.target.checked ? alarms.map((a) => a.id) : []))}
            />
            <span className={chosen.length ? "font-semibold" : "text-muted"}>
              {chosen.length ? `${chosen.length} marked` : plural(alarms.length, "alarm")}
            </span>
          </label>
          {chosen.length > 0 ? (
            <div className="flex flex-wrap gap-2">
              <Button
                disabled={!chosen.some((a) => a.may_acknowledge)}
                onClick={() => run("acknowledge", chosen)}
                className="!py-0.5"
              >
                Acknowledge {chosen.filter((a) => a.may_acknowledge).length}
              </Button>
              <Button onClick={() => run("shelve", chosen)} className="!py-0.5">
                Shelve…
              </Button>
              <Button onClick={() => run("comment", chosen)} className="!py-0.5">
                Comment…
              </Button>
            </div>
          ) : (
            <p className="text-muted max-lg:hidden">
              {[
                ["↑ ↓", "go"],
                ["A", "acknowledge"],
                ["S", "shelve"],
                ["C", "comment"],
                ["X", "mark"],
                ["O", "open"],
              ].map(([key, what]) => (
                <span key={key} className="mr-3">
                  <kbd className="rounded border border-line px-1 font-mono text-xs">{key}</kbd> {what}
                </span>
              ))}
            </p>
          )}
        </div>
      )}
      <ul
        ref={box}
        className="relative"
        style={long ? { height: virtual.getTotalSize() } : undefined}
        aria-label="Alarms"
      >
        {long
          ? virtual.getVirtualItems().map((v) => (
              <li
                key={v.key}
                data-index={v.index}
                ref={virtual.measureElement}
                className="absolute inset-x-0 top-0"
                style={{ transform: `translateY(${v.start - virtual.options.scrollMargin}px)` }}
              >
                {draw(lines[v.index])}
              </li>
            ))
          : lines.map((l) => <li key={"head" in l ? `head ${l.head}` : l.alarm.id}>{draw(l)}</li>)}
      </ul>
      {asking?.verb === "shelve" && (
        <Shelving
          alarms={asking.alarms}
          onClose={() => setAsking(undefined)}
          onDone={() => setMarked(new Set())}
        />
      )}
      {asking?.verb === "comment" && (
        <Commenting alarms={asking.alarms} onClose={() => setAsking(undefined)} />
      )}
    </>
  );
}

// AlarmTabs lead from the alarms to the rules that raise them, and to what else there is
// about alarms.
export function AlarmTabs() {
  const tab = ({ isActive }: { isActive: boolean }) =>
    `text-[1.375rem] font-bold ${isActive ? "" : "text-muted hover:text-ink"}`;
  const { pathname } = useLocation();
  const tabs = [
    ["/alarms", "Alarms", "alarms"],
    ["/rules", "Rules", "rules"],
    ["/maintenance", "Maintenance", "alarms"],
    ["/alarms/handover", "Handover", "alarms"],
    ["/alarms/performance", "Performance", "alarms"],
  ];
  const here = tabs.find(([to]) => pathname === to) ?? tabs[0];
  return (
    <div className="flex flex-wrap items-baseline gap-x-5 py-3.5">
      <h1 className="sr-only">{here[1]}</h1>
      {tabs.map(([to, name]) => (
        <NavLink key={to} to={to} end className={tab}>
          {name}
        </NavLink>
      ))}
      <About document={here[2]} what={here[2] === "rules" ? "alarm rules" : "alarms"} />
    </div>
  );
}

// groupLink leads to the devices of a group, such as site=Kilnside.
export function groupLink(group: string): string {
  const [key, ...value] = group.split("=");
  if (key === "service") return "/service";
  return `/?${new URLSearchParams({ where: `label.${key} == ${JSON.stringify(value.join("="))}` })}`;
}

// Measured says what was measured when an alarm was raised, and what is now.
function Measured({ alarm: a, device }: { alarm: Alarm; device?: Device }) {
  const m = device?.margins.find((x) => x.rule === a.rule);
  const display = m?.display ?? a.display ?? "";
  const open = a.state !== "normal";
  return (
    <>
      <span className="font-mono text-[0.8125rem]">{m?.of ?? a.metric}</span> {say(a.value)} {display} then,
      limit {say(a.limit)} {display}
      {open && m && (
        <>
          ; <b>{say(m.value)}</b> {display} now
          {m.limit !== a.limit && `, limit ${say(m.limit)} ${display}`}
        </>
      )}
    </>
  );
}

// Now is what is measured now, large, beside what the message says of then.
function Now({ alarm: a, device }: { alarm: Alarm; device?: Device }) {
  const m = a.state === "normal" || a.group ? undefined : device?.margins.find((x) => x.rule === a.rule);
  if (!m) return <span className="max-sm:hidden" />;
  const over = m.upward ? m.value >= m.limit : m.value <= m.limit;
  return (
    <p className="text-right leading-tight whitespace-nowrap max-sm:col-start-2 max-sm:row-start-2 max-sm:text-left">
      <span className="text-muted">now </span>
      <b className={`text-base ${over ? "" : "font-normal text-muted"}`}>
        {say(m.value)} {m.display}
      </b>
      <span className="block text-muted max-sm:inline">
        <span className="sm:hidden">, </span>limit {say(m.limit)}
      </span>
    </p>
  );
}

function Row({
  alarm: a,
  now,
  device,
  at,
  marked,
  onMark,
  onAct,
}: {
  alarm: Alarm;
  now: number;
  device?: Device;
  at: boolean; // the keys act on it
  marked: boolean;
  onMark?: () => void;
  onAct: (verb: Verb) => void;
}) {
  const name = device?.name;
  const [open, setOpen] = useState(false);
  const quiet = a.state === "normal" || isAside(a) || !a.holds;
  const reason = why(a, soon);
  const late = a.respond_by && a.state === "unacknowledged" && Date.parse(a.respond_by) < now;
  return (
    <div
      id={`alarm-${a.id}`}
      className={`grid grid-cols-[1.75rem_minmax(0,1fr)_auto] items-start gap-x-3 border-b border-line py-2.5 sm:grid-cols-[1.25rem_1.75rem_minmax(0,1fr)_auto_auto] sm:gap-x-4 ${at ? "bg-surface shadow-[inset_3px_0_0_var(--press)]" : ""}`}
    >
      {onMark ? (
        <input
          type="checkbox"
          aria-label={`Mark ${a.message}`}
          checked={marked}
          onChange={onMark}
          className="mt-1 ml-1 max-sm:hidden"
        />
      ) : (
        <span className="max-sm:hidden" />
      )}
      <span className={isAside(a) ? "opacity-50" : ""}>
        <Badge priority={a.priority} waiting={a.state === "unacknowledged"} size={22} />
      </span>
      <div className="min-w-0 max-sm:col-span-2">
        <Link to={`/alarms/${a.id}`} className="block max-w-full">
          <span className={`text-base ${quiet ? "text-muted" : "font-semibold"}`}>{a.message}</span>
        </Link>
        <p className="text-muted">
          {a.group ? (
            <Link to={groupLink(a.group)} className="text-ink underline decoration-line underline-offset-2">
              {nameOf(a.group)}
            </Link>
          ) : (
            <Link
              to={`/devices/${a.device}`}
              className={`${name ? "" : "font-mono"} text-ink underline decoration-line underline-offset-2`}
            >
              {name ?? a.device}
            </Link>
          )}{" "}
          · <Link to={`/rules/${a.rule}`}>{words(a.rule)}</Link> ·{" "}
          <span className={a.state === "unacknowledged" ? "font-semibold text-ink" : ""}>{a.state}</span>
          {reason && ` ${reason}`}
          {a.state === "acknowledged" && a.acknowledged_by && ` by ${a.acknowledged_by}`}, raised{" "}
          <span title={absolute(a.raised_at)}>{ago(a.raised_at, now)}</span>
          {a.returned_at && (
            <>, returned after {lasting(Date.parse(a.returned_at) - Date.parse(a.raised_at))}</>
          )}
          {a.times > 1 && <>, came up {a.times} times</>}
          {(a.suppresses ?? 0) > 0 && <>, stands for {plural(a.suppresses ?? 0, "alarm")} of its devices</>}
          {(a.comments ?? 0) > 0 && <>, {plural(a.comments ?? 0, "comment")}</>}
          {late && <b className="text-ink">, an answer was due {ago(a.respond_by, now)}</b>}{" "}
          <button
            type="button"
            aria-expanded={open}
            onClick={() => setOpen(!open)}
            className="text-press"
            aria-label={`${open ? "Less" : "More"} about ${a.message}`}
          >
            {open ? "less" : "more"}
          </button>
        </p>
        {(open || (a.state === "unacknowledged" && rank(a.priority) < 2)) && (
          <Details alarm={a} device={device} />
        )}
      </div>
      <Now alarm={a} device={device} />
      <div className="flex justify-end gap-1.5 max-sm:row-start-2 max-sm:col-start-3">
        {a.may_acknowledge && !isAside(a) && (
          <Button
            onClick={() => onAct("acknowledge")}
            className="!px-2.5 !py-1"
            aria-label={`Acknowledge ${a.rule} on ${a.device || a.group}`}
          >
            Acknowledge
          </Button>
        )}
        {onMark && a.may_act && a.state.startsWith("latched") && (
          <Button onClick={() => onAct("reset")} className="!px-2.5 !py-1">
            Reset
          </Button>
        )}
        {onMark && a.may_act && a.state === "shelved" && (
          <Button onClick={() => onAct("unshelve")} className="!px-2.5 !py-1">
            Unshelve
          </Button>
        )}
      </div>
    </div>
  );
}

// Details are the cause, the response, and what was measured.
export function Details({ alarm: a, device }: { alarm: Alarm; device?: Device }) {
  return (
    <dl className="mt-1.5 grid grid-cols-[5rem_minmax(0,1fr)] gap-x-3">
      {a.cause && (
        <>
          <dt className="text-muted">Cause</dt>
          <dd>{a.cause}</dd>
        </>
      )}
      {a.response && (
        <>
          <dt className="text-muted">Response</dt>
          <dd>{a.response}</dd>
        </>
      )}
      {a.metric && !a.group && (
        <>
          <dt className="text-muted">Measured</dt>
          <dd>
            <Measured alarm={a} device={device} />
          </dd>
        </>
      )}
    </dl>
  );
}
