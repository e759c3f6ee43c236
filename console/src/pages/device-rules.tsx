import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Device, type Margin, type Part, type Rule } from "../api/client";
import { Badge } from "../components/badge";
import { headspaceOf } from "../components/legend";
import { Command, Empty } from "../components/parts";
import { between, lasting, say, soon, words } from "../lib/format";

// Rules shows every rule for the device's model: how far the device is from it,
// when it gets there, and, opened, what each part of its condition is now.
export function Rules({ device }: { device: Device }) {
  const rules = useQuery({ queryKey: ["rules"], queryFn: () => ask(api.GET("/api/v1/rules")) });
  if (rules.isPending) return <p className="py-6 text-muted">Loading…</p>;
  if (rules.error) return <p className="py-6 text-urgent">{rules.error.message}</p>;
  const own = rules.data.filter((r) => r.models.includes(device.model));
  if (own.length === 0)
    return (
      <Empty
        title={`No rule watches a ${device.model_title}`}
        why="Without a rule there is no alarm and no headspace."
        next={<Command>ullage rule load FILE</Command>}
      />
    );
  const margin = (r: Rule) => device.margins.find((m) => m.rule === r.rule);
  own.sort(
    (a, b) => (margin(a)?.headspace ?? 2) - (margin(b)?.headspace ?? 2) || a.rule.localeCompare(b.rule),
  );
  return (
    <ul className="pt-2">
      {own.map((r) => (
        <Row key={r.rule} device={device} rule={r} margin={margin(r)} />
      ))}
    </ul>
  );
}

// measured writes a value of a margin; times that were worked out as people
// write them.
function measured(v: number, m: Margin): string {
  if (m.unit === "s" && m.of !== m.metric) return lasting(v * 1000);
  return `${say(Math.round(v * 100) / 100)} ${m.display ?? ""}`.trim();
}

// distance is the unit of a distance between two values of a margin.
function distance(m?: Margin): string {
  return { "°C": "K", dBm: "dB" }[m?.display ?? ""] ?? m?.display ?? "";
}

function Row({ device, rule: r, margin: m }: { device: Device; rule: Rule; margin?: Margin }) {
  const [open, setOpen] = useState(false);
  const raised = device.alarms.find((a) => a.rule === r.rule);
  return (
    <li className="border-b border-line py-2.5">
      <button
        type="button"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
        className="grid w-full grid-cols-[1.5rem_minmax(0,1fr)] items-start gap-x-3 text-left sm:grid-cols-[1.5rem_minmax(0,1fr)_minmax(13rem,auto)]"
      >
        <span className={raised ? "" : "opacity-75 grayscale"}>
          <Badge priority={r.priority} waiting={raised?.state === "unacknowledged"} size={19} />
        </span>
        <span className="min-w-0">
          <b className="block">{words(r.rule)}</b>
          <code className="block font-mono text-[0.8125rem] break-words text-muted">{r.raise}</code>
        </span>
        <span className="max-sm:col-start-2 sm:text-right">
          {m ? (
            <>
              <span className="block">
                {m.known ? (
                  <>
                    <Room share={m.headspace} /> <b>{Math.round(m.headspace * 100)} %</b>{" "}
                    <span className="text-muted" title={headspaceOf(m)}>
                      headspace
                    </span>
                  </>
                ) : (
                  <span className="text-muted" title={headspaceOf(m)}>
                    headspace not known yet
                  </span>
                )}
              </span>
              <span className="block text-muted">
                {m.to_limit
                  ? `at the limit probably ${soon(m.to_limit.likely)}, ${between(m.to_limit)}`
                  : `${measured(m.value, m)}, limit ${measured(m.limit, m)}`}
              </span>
              {m.reason && <span className="block text-watch">{m.reason}</span>}
            </>
          ) : (
            <span className="text-muted">
              {raised ? raised.state : r.each ? "about a group" : "no headspace"}
            </span>
          )}
        </span>
      </button>
      {open && (
        <div className="mt-2 ml-9 grid gap-4 bg-surface px-4 py-3">
          {r.devices && <Explained device={device.id} source={r.devices} title="Watches devices where" />}
          {r.each ? (
            <p className="text-muted">
              It is about all devices with the same <code className="font-mono">{r.each}</code> together, and
              raised for them as one.
            </p>
          ) : (
            <>
              <Explained device={device.id} source={r.raise} title="Raises the alarm when" />
              {r.clear && <Explained device={device.id} source={r.clear} title="Lets it return when" />}
            </>
          )}
          <p className="text-muted">
            {[
              r.on_delay && r.on_delay !== "0s" && `after ${r.on_delay}`,
              r.deadband ? `deadband ${say(r.deadband)} ${distance(m)}`.trim() : "",
              r.off_delay && r.off_delay !== "0s" && `returns after ${r.off_delay}`,
            ]
              .filter(Boolean)
              .join(", ")}
          </p>
        </div>
      )}
    </li>
  );
}

// Room is a small bar: its length is the headspace, so that it is empty at the limit.
function Room({ share }: { share: number }) {
  return (
    <svg width="60" height="10" viewBox="0 0 60 10" aria-hidden className="inline-block">
      <rect x="0.5" y="0.5" width="59" height="9" fill="none" stroke="var(--muted)" />
      <rect
        x="0.5"
        y="0.5"
        width={59 * share}
        height="9"
        fill={share < 0.2 ? "var(--medium)" : "var(--muted)"}
      />
    </svg>
  );
}

function Explained({ device, source, title }: { device: string; source: string; title: string }) {
  const explained = useQuery({
    queryKey: ["explain", device, source],
    refetchInterval: 2000,
    placeholderData: (old) => old,
    queryFn: () => ask(api.POST("/api/v1/expressions/explain", { body: { source, device } })),
  });
  return (
    <div className="overflow-x-auto">
      <h3 className="text-muted">{title}</h3>
      {explained.error ? (
        <p className="text-urgent">{explained.error.message}</p>
      ) : (
        explained.data && (
          <table className="border-collapse">
            <thead className="sr-only">
              <tr>
                <th>part</th>
                <th>value</th>
                <th>headspace</th>
                <th>note</th>
              </tr>
            </thead>
            <tbody>{lines(explained.data.part, 0, "0")}</tbody>
          </table>
        )
      )}
    </div>
  );
}

function lines(p: Part, depth: number, key: string): React.ReactNode[] {
  return [
    <tr key={key} className="align-top">
      <td
        className="min-w-72 py-0.5 pr-6 font-mono text-[0.8125rem]"
        style={{ paddingLeft: `${depth * 1.25}rem` }}
      >
        {p.text}
      </td>
      <td
        className={`min-w-20 py-0.5 pr-6 text-right whitespace-nowrap ${p.truth === "true" ? "font-semibold" : p.known ? "" : "text-muted italic"}`}
      >
        {p.truth ?? p.value}
      </td>
      <td className="py-0.5 pr-6 text-right whitespace-nowrap text-muted">
        {p.headspace !== undefined && `${Math.round(p.headspace * 100)} %`}
      </td>
      <td className="py-0.5 text-muted">{p.note}</td>
    </tr>,
    ...(p.parts ?? []).flatMap((k, i) => lines(k, depth + 1, `${key}.${i}`)),
  ];
}
