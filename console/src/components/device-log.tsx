import { useEffect, useMemo, useRef, useState } from "react";
import { api, ask } from "../api/client";
import { absolute, plural } from "../lib/format";
import { written } from "../lib/prefer";
import { useDelayed, useParam } from "../lib/use";
import { fieldLook } from "./field";
import { gravity } from "./log-look";
import { Command, Empty, Trouble } from "./parts";

interface LogLine {
  number: number;
  at: string;
  level: string;
  text: string;
}

const most = 2000;
const levels = [
  { value: "", name: "every level" },
  { value: "info", name: "info and graver" },
  { value: "warn", name: "warn and graver" },
  { value: "error", name: "error" },
];

// useLog reads the latest lines and goes on with what comes.
function useLog(device: string, level: string, text: string) {
  const [lines, setLines] = useState<LogLine[]>();
  const [bound, setBound] = useState<{ kept: number; keep: number }>();
  const [trouble, setTrouble] = useState("");
  useEffect(() => {
    const end = new AbortController();
    const query = { level: (level || undefined) as "warn" | undefined, text: text || undefined };
    const get = (more: object) =>
      ask(
        api.GET("/api/v1/devices/{id}/log", {
          params: { path: { id: device }, query: { ...query, ...more } },
          signal: end.signal,
        }),
      );
    const rest = (ms: number) => new Promise((done) => setTimeout(done, ms));
    const run = async () => {
      let last = 0;
      let begun = false;
      while (!end.signal.aborted) {
        try {
          if (!begun) {
            const first = await get({ limit: 500 });
            begun = true;
            last = first.lines[0]?.number ?? 0;
            setBound(first);
            setLines(first.lines.reverse());
          } else {
            const more = await get({ after: last, wait: "25s", limit: 1000 });
            if (more.lines.length > 0) {
              last = more.lines[more.lines.length - 1].number;
              setLines((all) => [...(all ?? []), ...more.lines].slice(-most));
            }
          }
          setTrouble("");
        } catch (e) {
          if (end.signal.aborted) return;
          setTrouble((e as Error).message);
          await rest(3000);
        }
      }
    };
    void run();
    return () => end.abort();
  }, [device, level, text]);
  return { lines, bound, trouble };
}

// DeviceLog is what a device writes into its log: the newest at the foot, where it goes on by
// itself as long as nobody has scrolled away from it.
export function DeviceLog({ device }: { device: string }) {
  const [level, setLevel] = useParam("level", "");
  const [text, setText] = useParam("text", "");
  const asked = useDelayed(text, 300) ?? "";
  const { lines, bound, trouble } = useLog(device, level, asked);
  const box = useRef<HTMLDivElement>(null);
  const stuck = useRef(true);
  useEffect(() => {
    if (stuck.current && box.current) box.current.scrollTop = box.current.scrollHeight;
  }, [lines]);
  const days = useMemo(() => {
    const own = (lines ?? []).map((l) =>
      written(Date.parse(l.at), { weekday: "short", day: "numeric", month: "short" }),
    );
    return own.map((d, i) => (d === own[i - 1] ? undefined : d));
  }, [lines]);
  const filtered = level !== "" || asked !== "";
  return (
    <section aria-label="Log" className="pt-4">
      <div className="flex flex-wrap items-center gap-3 pb-2">
        <input
          type="search"
          aria-label="Text in the lines"
          placeholder="Text in the lines"
          value={text}
          maxLength={200}
          onChange={(e) => setText(e.target.value)}
          className={`${fieldLook} !w-64`}
        />
        <select
          aria-label="Level"
          value={level}
          onChange={(e) => setLevel(e.target.value)}
          className={`${fieldLook} !w-auto`}
        >
          {levels.map((l) => (
            <option key={l.value} value={l.value}>
              {l.name}
            </option>
          ))}
        </select>
        <span className="text-muted" role="status">
          {lines && lines.length > 0 && `${plural(lines.length, "line")}, going on by itself`}
        </span>
        {bound && (
          <span className="ml-auto text-muted">
            {plural(bound.kept, "line")} and {plural(Math.round(bound.keep / 86400), "day")} are kept
          </span>
        )}
      </div>
      {trouble && <Trouble>{trouble}</Trouble>}
      {!lines ? (
        !trouble && <p className="text-muted">Loading…</p>
      ) : lines.length === 0 ? (
        filtered ? (
          <Empty
            title="There is no such line"
            why="No line of this device that is kept has this text and this level. What comes is shown here at once."
          />
        ) : (
          <Empty
            title="The device has not written a log"
            why="Devices send lines of text, or objects with a level and a text, on the topic log or to POST /device/v1/log."
            next={
              <Command>{`mosquitto_pub … -t ullage/${device}/log -m '{"level":"warn","text":"no link"}'`}</Command>
            }
          />
        )
      ) : (
        <div
          ref={box}
          tabIndex={0}
          role="log"
          aria-label="Lines, the newest last"
          onScroll={(e) => {
            const b = e.currentTarget;
            stuck.current = b.scrollHeight - b.scrollTop - b.clientHeight < 40;
          }}
          className="max-h-[70vh] overflow-y-auto border-y border-line font-mono text-[0.8125rem]"
        >
          {lines.map((l, i) => (
            <div key={l.number}>
              {days[i] && <p className="bg-surface px-2 py-0.5 font-sans text-muted">{days[i]}</p>}
              <p className="grid grid-cols-[5.5rem_3.5rem_minmax(0,1fr)] gap-x-3 border-t border-line/60 px-2 py-0.5">
                <time dateTime={l.at} title={absolute(l.at)} className="text-muted">
                  {written(Date.parse(l.at), { hour: "2-digit", minute: "2-digit", second: "2-digit" })}
                </time>
                <span className={gravity(l.level)}>{l.level}</span>
                <span className="break-words">{l.text}</span>
              </p>
            </div>
          ))}
        </div>
      )}
    </section>
  );
}
