import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link, useParams } from "react-router";
import { api, ask, type Rollout } from "../api/client";
import { Dialog } from "../components/dialog";
import { useMayAll, useMayOwn } from "../components/may";
import { useTell } from "../components/notices";
import { Button, Trouble } from "../components/parts";
import { absolute, ago, lasting, number, plural } from "../lib/format";
import { valuesOf } from "../lib/layers";
import { useNow, useTitle } from "../lib/use";

const states = [
  { key: "confirmed", name: "confirmed" },
  { key: "offered", name: "on its way" },
  { key: "waiting", name: "waiting" },
  { key: "off line", name: "off line" },
  { key: "refused", name: "refused" },
  { key: "left out", name: "left out" },
] as const;

export const rolloutState: Record<string, string> = {
  waiting: "waits for its start",
  running: "goes out",
  "catching up": "passed its last gate, and waits for those that were off line",
  paused: "paused",
  stopped: "stopped",
  done: "done",
  undone: "undone",
};

// RolloutPage is one rollout: where it stands, why it stopped, its waves with their gates,
// and each device.
export default function RolloutPage() {
  const { id = "" } = useParams();
  useTitle("Rollout");
  const now = useNow(2000);
  const rollout = useQuery({
    queryKey: ["layers", "rollout", id],
    refetchInterval: 2000,
    queryFn: () => ask(api.GET("/api/v1/rollouts/{id}", { params: { path: { id } } })),
  });
  const r = rollout.data;
  return (
    <>
      <p className="pt-4 text-muted">
        <Link to="/settings" className="text-press">
          Settings
        </Link>
        {r && (
          <>
            {" › "}
            <Link to={`/settings/${r.layer}`} className="text-press">
              {r.layer}
            </Link>
          </>
        )}
      </p>
      {rollout.isPending ? (
        <p className="text-muted">Loading…</p>
      ) : rollout.error ? (
        <Trouble>{rollout.error.message}</Trouble>
      ) : (
        <Shown r={rollout.data} now={now} />
      )}
    </>
  );
}

function Shown({ r, now }: { r: Rollout; now: number }) {
  const stopped = r.state === "stopped";
  const devices = r.devices ?? [];
  const wrong = devices.filter((d) => d.state === "refused" || d.state === "off line");
  const total = devices.length;
  const late = r.waves.every((w) => w.ended_at) && r.state !== "done";
  return (
    <>
      <div className="flex flex-wrap items-start gap-x-4 gap-y-2 pb-3">
        <div className="min-w-0 flex-1">
          <h1 className="text-xl font-bold">
            {r.layer}{" "}
            <span className="text-base font-normal text-muted">
              to {plural(total, "device")} in {plural(r.waves.length, "wave")}
            </span>
          </h1>
          <p>
            <b className={stopped ? "text-urgent" : ""}>
              {r.asks
                ? "waits for a second person's approval"
                : stopped && r.broke
                  ? "stopped by itself"
                  : rolloutState[r.state]}
            </b>{" "}
            <span className="text-muted" title={absolute(r.since)}>
              {ago(r.since, now)}, begun by {r.by}
              {r.approved_by && `, approved by ${r.approved_by}`}
            </span>
          </p>
          {r.why && <p className="max-w-[60rem]">{r.why.charAt(0).toUpperCase() + r.why.slice(1)}</p>}
        </div>
        <Acts r={r} wrong={wrong.map((d) => d.id)} />
      </div>
      <ol className="flex flex-wrap border-y border-line" aria-label="Waves">
        {r.waves.map((w, i) => {
          const passed = Boolean(w.ended_at);
          const here = i + 1 === r.wave && !passed && !["done", "undone", "waiting"].includes(r.state);
          return (
            <li
              key={i}
              className={`min-w-40 flex-1 border-r-2 border-dashed px-4 py-3 first:pl-0 last:border-r-0 ${here && stopped ? "!border-solid border-urgent" : passed ? "border-press" : "border-line"}`}
              style={{ flexGrow: Math.max(1, Math.sqrt(w.devices)) }}
              aria-current={here ? "step" : undefined}
            >
              <p>
                <b>Wave {i + 1}</b> · {number(w.devices)}
              </p>
              <p className="text-muted">
                {passed
                  ? `passed its gate ${ago(w.ended_at, now)}`
                  : here
                    ? stopped
                      ? "broke"
                      : r.holds
                        ? `holds for ${lasting(now - Date.parse(r.holds))} of ${lasting(r.soak * 1000)}`
                        : `for ${lasting(now - Date.parse(r.began ?? r.since))}`
                    : r.state === "undone"
                      ? "undone"
                      : "waits"}
              </p>
              <Units devices={devices.filter((d) => d.wave === i + 1)} />
            </li>
          );
        })}
      </ol>
      <div className="grid gap-x-8 gap-y-6 pt-4 lg:grid-cols-[minmax(0,1fr)_20rem]">
        <section aria-label="Gate">
          {r.gate && r.gate.length > 0 && (
            <>
              <h2 className="pb-1">
                <b>{late ? "Gate of those that come late" : `Gate of wave ${r.wave}`}</b>{" "}
                <span className="text-muted">
                  {late
                    ? "what breaks among them stops the others"
                    : `must hold for ${lasting(r.soak * 1000)}`}
                </span>
              </h2>
              <ul className="border-t border-line">
                {r.gate.map((g) => (
                  <li
                    key={g.source}
                    className="grid gap-x-4 border-b border-line py-1.5 sm:grid-cols-[minmax(0,1fr)_7rem_minmax(0,16rem)]"
                  >
                    <code className="font-mono text-[0.8125rem] break-words">{g.source}</code>
                    <span className={g.truth === "false" ? "font-semibold text-watch" : "text-muted"}>
                      {g.truth === "true" ? "holds" : g.truth === "false" ? "does not" : "not known yet"}
                    </span>
                    <span className="text-muted">{g.says}</span>
                  </li>
                ))}
              </ul>
            </>
          )}
          {wrong.length > 0 && (
            <>
              <h2 className="pt-4 pb-1 font-semibold">Who needs a look</h2>
              <ul className="border-t border-line">
                {wrong.slice(0, 50).map((d) => (
                  <li key={d.id} className="flex flex-wrap gap-x-4 border-b border-line py-1.5">
                    <Link to={`/devices/${d.id}`} className="text-press">
                      {d.id}
                    </Link>
                    <span>wave {d.wave}</span>
                    <span className={d.state === "refused" ? "font-semibold text-watch" : "text-muted"}>
                      {d.state}
                    </span>
                    <span className="text-muted">{d.reason}</span>
                  </li>
                ))}
              </ul>
            </>
          )}
          {r.journal && r.journal.length > 0 && (
            <>
              <h2 className="pt-4 pb-1 font-semibold">What happened</h2>
              <ul className="border-t border-line" aria-label="What happened">
                {r.journal.map((e) => (
                  <li
                    key={e.number}
                    className="grid gap-x-4 border-b border-line py-1.5 sm:grid-cols-[8rem_minmax(0,1fr)_8rem]"
                  >
                    <time dateTime={e.at} title={absolute(e.at)} className="text-muted">
                      {ago(e.at, now)}
                    </time>
                    <span>{sentence(e.text, r.layer)}</span>
                    <span className="text-muted sm:text-right">{e.person ?? "by itself"}</span>
                  </li>
                ))}
              </ul>
            </>
          )}
        </section>
        <section aria-label="Devices">
          <h2 className="pb-1 font-semibold">{plural(total, "device")}</h2>
          <ul>
            {states.map((s) => {
              const n = r.counts[s.key] ?? 0;
              return (
                <li
                  key={s.key}
                  className={`grid grid-cols-[6rem_minmax(0,1fr)_3rem] items-center gap-x-3 py-1 ${n === 0 ? "text-muted" : ""}`}
                >
                  <span>{s.name}</span>
                  <span className="h-1.5 bg-line">
                    <span
                      className={`block h-full ${s.key === "refused" ? "bg-watch" : s.key === "confirmed" ? "bg-press" : "bg-muted"}`}
                      style={{ width: `${total ? (100 * n) / total : 0}%` }}
                    />
                  </span>
                  <b className="text-right">{number(n)}</b>
                </li>
              );
            })}
          </ul>
          {r.to && (
            <>
              <h2 className="pt-4 pb-1 font-semibold">What it brings</h2>
              <dl>
                {valuesOf(r.to.set)
                  .filter(([k, v]) => String(r.from?.set[k] ?? "") !== v)
                  .map(([k, v]) => (
                    <div key={k} className="flex justify-between gap-3 border-t border-line py-1">
                      <dt className="font-mono text-[0.8125rem]">{k}</dt>
                      <dd>
                        {r.from && k in r.from.set && (
                          <span className="text-muted">{String(r.from.set[k] ?? "taken off")} → </span>
                        )}
                        <b className="font-semibold">{v}</b>
                      </dd>
                    </div>
                  ))}
              </dl>
            </>
          )}
        </section>
      </div>
    </>
  );
}

// sentence is an entry of the journal without what the page says already.
const sentence = (text: string, layer: string) => {
  const mark = `the rollout of the layer ${layer}: `;
  const said = text.slice(Math.max(0, text.indexOf(mark)) + (text.includes(mark) ? mark.length : 0));
  return said.charAt(0).toUpperCase() + said.slice(1);
};

// Units draws the devices of a wave: full once they have confirmed.
function Units({ devices }: { devices: NonNullable<Rollout["devices"]> }) {
  const most = 120;
  const look: Record<string, string> = {
    confirmed: "border-press bg-press",
    offered: "border-press bg-press/30",
    refused: "border-watch bg-watch",
    "off line": "border-dashed border-muted",
    waiting: "border-muted",
    "left out": "border-line bg-line",
  };
  return (
    <p
      className="flex flex-wrap gap-1 pt-2"
      role="img"
      aria-label={states
        .map((s) => [devices.filter((d) => d.state === s.key).length, s.name] as const)
        .filter(([n]) => n > 0)
        .map(([n, name]) => `${n} ${name}`)
        .join(", ")}
    >
      {devices.slice(0, most).map((d) => (
        <span
          key={d.id}
          title={`${d.id}: ${d.state}${d.reason ? `, ${d.reason}` : ""}`}
          className={`inline-block h-5 w-3 rounded-b-[5px] border ${look[d.state] ?? ""}`}
        />
      ))}
      {devices.length > most && <span className="text-muted">and {number(devices.length - most)} more</span>}
    </p>
  );
}

function Acts({ r, wrong }: { r: Rollout; wrong: string[] }) {
  const all = useMayAll("engineer");
  const engineer = useMayOwn("engineer", r.to?.author);
  const onDuty = useMayAll("operator");
  const operator = onDuty || engineer;
  const tell = useTell();
  const queries = useQueryClient();
  const [asking, setAsking] = useState<"undo" | "leave-out">();
  const [device, setDevice] = useState("");
  const [force, setForce] = useState(false);
  const act = async (
    body: {
      act: "approve" | "pause" | "resume" | "stop" | "undo" | "undo-wave" | "leave-out";
      device?: string;
      force?: boolean;
    },
    said: string,
  ) => {
    await ask(api.POST("/api/v1/rollouts/{id}", { params: { path: { id: r.id } }, body }));
    await queries.invalidateQueries({ queryKey: ["layers"] });
    tell(said);
  };
  const quick = (b: Parameters<typeof act>[0], said: string) => () =>
    void act(b, said).catch((e: Error) => tell(e.message, { bad: true }));
  const open = r.state !== "undone" && r.state !== "done";
  const button = (may: boolean, name: string, onClick: () => void, primary?: boolean): ReactNode =>
    may && (
      <Button primary={primary} onClick={onClick}>
        {name}
      </Button>
    );
  return (
    <span className="flex flex-wrap gap-2">
      {button(engineer && r.state !== "undone", r.state === "done" ? "Undo…" : "Undo for all…", () =>
        setAsking("undo"),
      )}
      {button(engineer && open && wrong.length > 0, "Leave one out…", () => {
        setDevice(wrong[0]);
        setAsking("leave-out");
      })}
      {button(
        operator && (r.state === "running" || r.state === "catching up"),
        "Stop",
        quick({ act: "stop" }, "The rollout is stopped."),
      )}
      {button(
        operator && ["running", "waiting", "catching up"].includes(r.state),
        "Pause",
        quick({ act: "pause" }, "The rollout is paused."),
      )}
      {button(all && Boolean(r.asks), "Approve", quick({ act: "approve" }, "The rollout is approved."), true)}
      {button(
        engineer && (r.state === "paused" || r.state === "stopped"),
        "Go on",
        quick({ act: "resume" }, "The rollout goes on."),
        true,
      )}
      {asking === "undo" && (
        <Dialog
          title={`Undo the rollout of ${r.layer}`}
          about={
            r.state === "done"
              ? "A new version of the layer takes its difference back."
              : "Every device has what it had before."
          }
          verb="Undo it"
          danger
          act={() => act({ act: "undo", force }, "The rollout is undone.")}
          onClose={() => setAsking(undefined)}
        >
          {r.state === "done" && (
            <label className="flex items-center gap-2">
              <input type="checkbox" checked={force} onChange={(e) => setForce(e.target.checked)} />
              take back what was changed since, too
            </label>
          )}
        </Dialog>
      )}
      {asking === "leave-out" && (
        <Dialog
          title="Leave a device out"
          about="It has what it had, until the layer is changed again."
          verb="Leave it out"
          act={() => act({ act: "leave-out", device }, `${device} is left out.`)}
          onClose={() => setAsking(undefined)}
        >
          <select
            aria-label="Device"
            value={device}
            onChange={(e) => setDevice(e.target.value)}
            className="w-full rounded-[4px] border border-muted bg-ground px-2 py-1.5"
          >
            {(r.devices ?? []).map((d) => (
              <option key={d.id} value={d.id}>
                {d.id}, {d.state}
              </option>
            ))}
          </select>
        </Dialog>
      )}
    </span>
  );
}
