import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { api, ask, type TrafficEntry } from "../api/client";
import { useFleet, watchTraffic } from "../api/live";
import { absolute, clock } from "../lib/format";
import { Empty } from "./parts";

const keep = 300;

interface Props {
  device?: string;
  where?: string;
  refused?: boolean;
  paused?: boolean;
  short?: boolean;
  className?: string;
}

// TrafficList shows messages as they pass, the newest on top.
export function TrafficList({
  device = "",
  where = "",
  refused = false,
  paused = false,
  short = false,
  className = "",
}: Props) {
  const limit = short ? 6 : 100;
  const begin = useQuery({
    queryKey: ["traffic", device, where, refused, limit],
    queryFn: () =>
      ask(
        api.GET("/api/v1/traffic", {
          params: { query: { device: device || undefined, where: where || undefined, refused, limit } },
        }),
      ),
    gcTime: 0,
  });
  const { devices: fleet } = useFleet();
  const [passed, setPassed] = useState<TrafficEntry[]>([]);
  useEffect(() => {
    if (paused) return;
    return watchTraffic(device, where, (es) => setPassed((old) => [...es, ...old].slice(0, keep)));
  }, [device, where, paused]);
  const seen = new Set<number>();
  const entries = [...passed, ...(begin.data ?? [])]
    .filter(
      (e) =>
        !seen.has(e.seq) &&
        seen.add(e.seq) &&
        (!refused || e.reason || e.refused?.length) &&
        (!device || e.device === device),
    )
    .sort((a, b) => b.seq - a.seq)
    .slice(0, short ? limit : keep);
  if (begin.isPending) return <p className={`text-muted ${className}`}>Loading…</p>;
  if (begin.error) return <p className={`text-urgent ${className}`}>{begin.error.message}</p>;
  if (entries.length === 0)
    return short ? (
      <p className="text-muted">Nothing has passed since the service started.</p>
    ) : (
      <Empty
        title={refused ? "Nothing was refused" : "Nothing has passed yet"}
        why="Messages appear here as they come, also those that are refused. The traffic is kept in memory since the service started."
      />
    );
  return (
    <ol className={className}>
      {entries.map((e) => (
        <Row key={e.seq} entry={e} short={short} named={!device} name={fleet.get(e.device ?? "")?.name} />
      ))}
    </ol>
  );
}

function Row({
  entry: e,
  short,
  named,
  name,
}: {
  entry: TrafficEntry;
  short: boolean;
  named: boolean;
  name?: string;
}) {
  const [open, setOpen] = useState(false);
  const bad = Boolean(e.reason || e.refused?.length);
  const arrow = e.direction === "up" ? "↑" : "↓";
  const line = bad ? (e.reason ?? e.refused![0].sentence) : e.body || e.note;
  if (short)
    return (
      <li
        className="flex gap-2 overflow-hidden py-0.5 font-mono text-[0.75rem] whitespace-nowrap"
        title={line}
      >
        <span className="text-muted">{clock(e.at)}</span>
        <span aria-label={e.direction}>{arrow}</span>
        <span>{e.topic}</span>
        <span className={`truncate ${bad ? "font-semibold text-urgent" : "text-muted"}`}>
          {line?.replace(/^\{"at":"[^"]*",/, "{")}
        </span>
      </li>
    );
  return (
    <li className="border-b border-line">
      <button
        type="button"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
        className={`grid w-full gap-x-3 py-1 text-left font-mono text-[0.8125rem] hover:bg-surface ${
          named
            ? "grid-cols-[4.75rem_1rem_minmax(0,1fr)] sm:grid-cols-[4.75rem_1rem_3rem_minmax(7rem,12rem)_5.5rem_minmax(0,1fr)]"
            : "grid-cols-[4.75rem_1rem_minmax(0,1fr)] sm:grid-cols-[4.75rem_1rem_3rem_5.5rem_minmax(0,1fr)]"
        }`}
      >
        <span className="text-muted" title={absolute(e.at)}>
          {clock(e.at)}
        </span>
        <span aria-label={e.direction}>{arrow}</span>
        <span className="hidden text-muted sm:inline">{e.transport}</span>
        {named && (
          <span className="truncate" title={e.device}>
            {(e.device && name) || e.device || (e.claimed ? `? ${e.claimed}` : "stranger")}
          </span>
        )}
        <span className="max-sm:col-start-3">{e.topic}</span>
        <span className={`truncate max-sm:col-start-3 ${bad ? "font-semibold text-urgent" : "text-muted"}`}>
          {line}
        </span>
      </button>
      {open && <Detail entry={e} />}
    </li>
  );
}

function Detail({ entry: e }: { entry: TrafficEntry }) {
  let body = e.body ?? "";
  try {
    body = JSON.stringify(JSON.parse(body), null, 2);
  } catch {
    // Not JSON, or cut: shown as it came.
  }
  return (
    <div className="grid gap-4 bg-surface px-4 py-3 md:grid-cols-2">
      <pre className="max-h-72 overflow-auto font-mono text-[0.8125rem] whitespace-pre-wrap" tabIndex={0}>
        {body || "(no body)"}
      </pre>
      <div>
        {e.reason && <p className="font-semibold text-urgent">{e.reason}</p>}
        {e.ref && (
          <p className="text-muted">
            The other side was told only <code className="font-mono">not authorised, ref {e.ref}</code>.
          </p>
        )}
        {e.refused?.map((f) => (
          <p key={f.pointer + f.sentence}>
            <code className="font-mono text-urgent">{f.pointer || "/"}</code> {f.sentence}
          </p>
        ))}
        {e.marked?.map((f) => (
          <p key={f.pointer + f.sentence}>
            <code className="font-mono text-watch">{f.pointer}</code> {f.sentence}
          </p>
        ))}
        {e.note && <p>{e.note}</p>}
        <p className="text-muted">
          {e.kept > 0 && `${e.kept} values kept. `}
          {e.size} bytes{e.remote && `, ${e.direction === "up" ? "from" : "to"} ${e.remote}`},{" "}
          {absolute(e.at)}
        </p>
        {e.device && (
          <p className="mt-1">
            <Link to={`/devices/${e.device}`} className="text-press underline">
              Go to {e.device}
            </Link>
          </p>
        )}
      </div>
    </div>
  );
}
