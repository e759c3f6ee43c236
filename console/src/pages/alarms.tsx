import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, NavLink, useLocation } from "react-router";
import { api, ask, type Alarm, type Device } from "../api/client";
import { useFleet } from "../api/live";
import { About } from "../components/about";
import { Acknowledge } from "../components/acknowledge";
import { Badge } from "../components/badge";
import { Button, Choice, Empty } from "../components/parts";
import { Where } from "../components/where";
import { absolute, ago, lasting, plural, rank, say, words } from "../lib/format";
import { useScreen } from "../lib/screen";
import { useNow, useParam, useTitle } from "../lib/use";

const urgency = (a: Alarm) => (a.state === "unacknowledged" ? 0 : a.state === "acknowledged" ? 1 : 2);

export default function AlarmsPage() {
  useTitle("Alarms");
  const { devices, service } = useFleet();
  const screen = useScreen();
  const [view, setView] = useParam("view", "open");
  const [where, setWhere] = useParam("where", "");
  const [rule, setRule] = useParam("rule", "");
  const now = useNow();
  // Ask again whenever the live stream tells of another alarm or state.
  const mark = [...[...devices.values()].flatMap((d) => d.alarms), ...(service?.groups ?? [])]
    .map((a) => a.id + a.state)
    .join();
  const list = useQuery({
    queryKey: ["alarms", view, where, rule, mark],
    placeholderData: (old) => old,
    queryFn: () =>
      ask(
        api.GET("/api/v1/alarms", {
          params: {
            query: { all: view === "all", where: where || undefined, rule: rule || undefined, limit: 500 },
          },
        }),
      ),
  });
  const rows = [...(list.data ?? [])];
  if (view === "open")
    rows.sort(
      (a, b) =>
        urgency(a) - urgency(b) ||
        rank(a.priority) - rank(b.priority) ||
        b.raised_at.localeCompare(a.raised_at),
    );
  const waiting = rows.filter((a) => a.state === "unacknowledged").length;
  return (
    <>
      {screen ? <h1 className="py-3.5 text-[1.375rem] font-bold">Alarms</h1> : <AlarmTabs />}
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pb-3.5">
        <p className="text-muted">
          {view === "open"
            ? `${plural(rows.length, "alarm")} open, ${waiting} unacknowledged`
            : `the latest ${rows.length}`}
        </p>
        {rule && (
          <p>
            of the rule{" "}
            <Link to={`/rules/${encodeURIComponent(rule)}`} className="font-mono">
              {rule}
            </Link>{" "}
            <Button onClick={() => setRule("")}>Show all rules</Button>
          </p>
        )}
        {!screen && (
          <div className="ml-auto">
            <Choice
              label="Which"
              value={view}
              onChange={setView}
              options={[
                { value: "open", name: "Open" },
                { value: "all", name: "All" },
              ]}
            />
          </div>
        )}
      </div>
      <div className="pb-3">
        <Where
          value={where}
          onChange={setWhere}
          label="Filter alarms by a condition on their device"
          placeholder="Only of devices for which this is true"
        />
      </div>
      {list.isPending ? (
        <p className="text-muted">Loading…</p>
      ) : list.error ? (
        <p className="text-urgent">{list.error.message}</p>
      ) : rows.length === 0 ? (
        <Empty
          title={
            where || rule
              ? `No alarm of such a ${where ? "device" : "rule"}`
              : view === "open"
                ? "No alarm is open"
                : "There was no alarm yet"
          }
          why={
            where || rule
              ? "The condition or the rule leaves none of them."
              : "Alarms appear here by themselves when a rule raises one."
          }
          next={
            <Link to="/" className="text-press underline">
              See who is nearest to a limit
            </Link>
          }
        />
      ) : (
        <ul className="border-t border-line">
          {rows.map((a) => (
            <Row key={a.id} alarm={a} now={now} device={devices.get(a.device)} />
          ))}
        </ul>
      )}
    </>
  );
}

// AlarmTabs lead from the alarms to the rules that raise them, and back.
export function AlarmTabs() {
  const tab = ({ isActive }: { isActive: boolean }) =>
    `text-[1.375rem] font-bold ${isActive ? "" : "text-muted hover:text-ink"}`;
  const { pathname } = useLocation();
  return (
    <div className="flex items-baseline gap-5 py-3.5">
      <h1 className="sr-only">{pathname === "/rules" ? "Rules" : "Alarms"}</h1>
      <NavLink to="/alarms" className={tab}>
        Alarms
      </NavLink>
      <NavLink to="/rules" className={tab}>
        Rules
      </NavLink>
      <About document="rules" what="alarm rules" />
    </div>
  );
}

// groupLink leads to the devices of a group, such as site=Kilnside.
function groupLink(group: string): string {
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

function Row({ alarm: a, now, device }: { alarm: Alarm; now: number; device?: Device }) {
  const name = device?.name;
  const [open, setOpen] = useState(false);
  const quiet = a.state === "normal" || a.state === "returned unacknowledged";
  return (
    <li className="grid grid-cols-[1.75rem_minmax(0,1fr)_auto] items-start gap-x-3 border-b border-line py-2.5 sm:grid-cols-[1.75rem_minmax(0,1fr)_auto_auto] sm:gap-x-6">
      <Badge priority={a.priority} waiting={a.state === "unacknowledged"} size={22} />
      <div className="min-w-0">
        <button
          type="button"
          aria-expanded={open}
          onClick={() => setOpen(!open)}
          className="block max-w-full text-left"
        >
          <span className={`text-base ${quiet ? "text-muted" : "font-semibold"}`}>{a.message}</span>
        </button>
        <p className="text-muted">
          {a.group ? (
            <Link to={groupLink(a.group)} className="text-ink underline decoration-line underline-offset-2">
              {a.group.split("=").slice(1).join("=")}
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
          <span className={a.state === "unacknowledged" ? "font-semibold text-ink" : ""}>{a.state}</span>,
          raised <span title={absolute(a.raised_at)}>{ago(a.raised_at, now)}</span>
          {a.returned_at && (
            <>, returned after {lasting(Date.parse(a.returned_at) - Date.parse(a.raised_at))}</>
          )}
          {a.times > 1 && <>, came up {a.times} times</>}
        </p>
        {(open || (a.state === "unacknowledged" && rank(a.priority) < 2)) && (
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
        )}
      </div>
      <Now alarm={a} device={device} />
      <Acknowledge alarm={a} />
    </li>
  );
}
