import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { Link } from "react-router";
import { api, ask, type TrafficEntry } from "../api/client";
import { useFleet, watchTraffic } from "../api/live";
import { absolute, clock, plural } from "../lib/format";
import { May } from "./may";
import { SendAs } from "./message-as";
import { Button, Command, Empty, Trouble } from "./parts";

const keep = 300;
const page = 100;

interface Props {
  device?: string;
  where?: string;
  match?: string;
  text?: string;
  from?: string;
  to?: string;
  refused?: boolean;
  paused?: boolean;
  short?: boolean;
  className?: string;
}

// read asks for some messages, and says where to go on for older ones.
async function read(query: {
  device?: string;
  where?: string;
  match?: string;
  text?: string;
  from?: string;
  to?: string;
  refused?: boolean;
  before?: number;
  limit: number;
}): Promise<{ entries: TrafficEntry[]; before?: number }> {
  let response: Response | undefined;
  const entries = await ask(
    api.GET("/api/v1/traffic", { params: { query } }).then((a) => ((response = a.response), a)),
  );
  const next = /[?&]before=(\d+)/.exec(response?.headers.get("Link") ?? "");
  return { entries, before: next ? Number(next[1]) : undefined };
}

// TrafficList shows messages as they pass, the newest on top, and those of the last days
// below them.
export function TrafficList({
  device = "",
  where = "",
  match = "",
  text = "",
  from = "",
  to = "",
  refused = false,
  paused = false,
  short = false,
  className = "",
}: Props) {
  const limit = short ? 6 : page;
  const past = Boolean(from || to);
  const query = useMemo(
    () => ({
      device: device || undefined,
      where: where || undefined,
      match: match || undefined,
      text: text || undefined,
      from: from || undefined,
      to: to || undefined,
      refused,
      limit,
    }),
    [device, where, match, text, from, to, refused, limit],
  );
  const begin = useQuery({ queryKey: ["traffic", query], queryFn: () => read(query), gcTime: 0 });
  const { devices: fleet } = useFleet();
  const [passed, setPassed] = useState<TrafficEntry[]>([]);
  const [missed, setMissed] = useState(0);
  const [older, setOlder] = useState<{ entries: TrafficEntry[]; before?: number }>();
  const [searching, setSearching] = useState(false);
  const [trouble, setTrouble] = useState("");
  // What passes is not matched here: a list with a condition asks for it now and then.
  const live = !past && !match && !text;
  const { refetch } = begin;
  useEffect(() => {
    if (past) return;
    if (!live) {
      if (paused) return;
      const t = window.setInterval(() => void refetch(), 3000);
      return () => window.clearInterval(t);
    }
    return watchTraffic(device, where, (es) =>
      paused ? setMissed((n) => n + es.length) : setPassed((old) => [...es, ...old].slice(0, keep)),
    );
  }, [device, where, paused, live, past, refetch]);
  const [wasPaused, setWasPaused] = useState(paused);
  if (paused !== wasPaused) {
    setWasPaused(paused);
    setMissed(0);
  }
  const seen = new Set<number>();
  const entries = [...passed, ...(begin.data?.entries ?? []), ...(older?.entries ?? [])]
    .filter(
      (e) =>
        !seen.has(e.seq) &&
        seen.add(e.seq) &&
        (!refused || e.reason || e.refused?.length) &&
        (!device || e.device === device),
    )
    .sort((a, b) => b.seq - a.seq);
  if (begin.isPending) return <p className={`text-muted ${className}`}>Loading…</p>;
  if (begin.error) return <p className={`text-urgent ${className}`}>{begin.error.message}</p>;
  const before = older ? older.before : begin.data?.before;
  const further = async () => {
    setSearching(true);
    setTrouble("");
    try {
      const oldest = entries.at(-1)?.seq;
      const got = await read({ ...query, before: Math.min(before ?? Infinity, oldest ?? Infinity) });
      setOlder((o) => ({ entries: [...(o?.entries ?? []), ...got.entries], before: got.before }));
    } catch (e) {
      setTrouble((e as Error).message);
    } finally {
      setSearching(false);
    }
  };
  if (short)
    return entries.length === 0 ? (
      <p className="text-muted">Nothing has passed since the service started.</p>
    ) : (
      <ol className={className}>
        {entries.slice(0, limit).map((e) => (
          <Row key={e.seq} entry={e} short named={!device} name={fleet.get(e.device ?? "")?.name} />
        ))}
      </ol>
    );
  return (
    <>
      {paused && missed > 0 && (
        <p className="pb-1 text-muted" role="status">
          {plural(missed, "message")} passed since you paused
        </p>
      )}
      {entries.length === 0 && (
        <Empty
          title={
            refused
              ? "Nothing was refused"
              : match || text || past
                ? "Nothing like that was found"
                : "Nothing has passed yet"
          }
          why={
            match || text || past
              ? "As far back as it was looked. What devices sent is kept for some days, as far as there is room."
              : "Messages appear here as they come, also those that are refused."
          }
        />
      )}
      <ol className={className}>
        {entries.map((e) => (
          <Row key={e.seq} entry={e} short={false} named={!device} name={fleet.get(e.device ?? "")?.name} />
        ))}
      </ol>
      {trouble && <Trouble>{trouble}</Trouble>}
      {before !== undefined && (
        <p className="py-3">
          <Button onClick={() => void further()} disabled={searching}>
            {searching ? "Looking…" : "Older"}
          </Button>
          {older && older.entries.length === 0 && !searching && (
            <span className="ml-3 text-muted">nothing yet; there is more to look through</span>
          )}
        </p>
      )}
      {before === undefined && entries.length > 0 && (
        <p className="py-3 text-muted">That is all that is kept.</p>
      )}
    </>
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

// pairOf is by what a command and its reply are known to belong together.
function pairOf(e: TrafficEntry): string | undefined {
  if (!e.topic.startsWith("command/") && e.topic !== "reply") return undefined;
  return /"id"\s*:\s*"([^"]{8,64})"/.exec(e.body ?? "")?.[1];
}

// Pair shows the command of a reply, or the reply to a command.
function Pair({ entry: e, id }: { entry: TrafficEntry; id: string }) {
  const reply = e.topic !== "reply";
  const found = useQuery({
    queryKey: ["traffic", "pair", id],
    refetchInterval: (q) => (q.state.data ? false : 3000),
    queryFn: async () => {
      const { entries } = await read({ device: e.device, text: id, limit: 20 });
      return entries.find((x) => x.seq !== e.seq && (x.topic === "reply") === reply) ?? null;
    },
  });
  if (found.isPending) return null;
  if (!found.data)
    return (
      <p className="pt-1 text-muted">{reply ? "No reply has come." : "Its command is not kept any more."}</p>
    );
  return (
    <div className="pt-2">
      <p>
        {reply ? "The reply" : "The command"}, {clock(found.data.at)}:
      </p>
      <pre className="overflow-x-auto font-mono text-[0.8125rem] whitespace-pre-wrap" tabIndex={0}>
        {found.data.body}
      </pre>
    </div>
  );
}

// exampleOf writes a message as an example of its model, as in the file that stands
// beside it.
function exampleOf(e: TrafficEntry): string {
  const lines = [
    `  - name: as sent on ${absolute(e.at)}`,
    `    payload: '${(e.body ?? "").replaceAll("'", "''")}'`,
  ];
  if (e.refused?.length) {
    lines.push("    refused:");
    for (const f of e.refused) lines.push(`      ${f.pointer || "/"}: ${JSON.stringify(f.sentence)}`);
  }
  return lines.join("\n");
}

function Detail({ entry: e }: { entry: TrafficEntry }) {
  const [open, setOpen] = useState<"example" | "send">();
  const pair = pairOf(e);
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
        {e.by && <p className="font-semibold text-watch">{e.by} sent it as the device, which did not.</p>}
        {pair && <Pair entry={e} id={pair} />}
        <p className="text-muted">
          {e.kept > 0 && `${e.kept} values kept. `}
          {e.size} bytes{e.remote && `, ${e.direction === "up" ? "from" : "to"} ${e.remote}`},{" "}
          {absolute(e.at)}
        </p>
        {e.device && (
          <p className="mt-1 flex flex-wrap gap-x-5">
            <Link to={`/devices/${e.device}`} className="text-press underline">
              Go to {e.device}
            </Link>
            {e.topic === "readings" && e.body && (
              <button
                type="button"
                className="text-press underline"
                aria-expanded={open === "example"}
                onClick={() => setOpen(open === "example" ? undefined : "example")}
              >
                Take it as an example
              </button>
            )}
            {e.direction === "up" && e.body && e.topic !== "connect" && (
              <May role="engineer" device={e.device}>
                <button type="button" className="text-press underline" onClick={() => setOpen("send")}>
                  Send one like it
                </button>
              </May>
            )}
          </p>
        )}
        {open === "example" && (
          <div className="pt-2">
            <p className="pb-1 text-muted">
              For the examples file of its model; ullage model test tries it from then on.
              {e.size > (e.body?.length ?? 0) && " The message was cut; complete it."}
            </p>
            <Command wrap>{exampleOf(e)}</Command>
          </div>
        )}
        {open === "send" && <SendAs device={e.device!} like={e} onClose={() => setOpen(undefined)} />}
      </div>
    </div>
  );
}
