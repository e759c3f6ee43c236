import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, ask, type Layer, type WavePlan } from "../api/client";
import { ago, lasting, number, plural } from "../lib/format";
import { useDelayed, useNow } from "../lib/use";
import { Dialog, Entry } from "./dialog";
import { fieldLook } from "./field";
import { Trouble } from "./parts";

const said: Record<string, string> = {
  waiting: "waits for its start",
  running: "goes out",
  "catching up": "waits for those that were off line",
  paused: "is paused",
  stopped: "has stopped",
  done: "is done",
  undone: "was undone",
};

// Rollouts lists the latest rollouts, those that are under way first.
export function Rollouts() {
  const now = useNow(5000);
  const all = useQuery({
    queryKey: ["layers", "rollouts"],
    refetchInterval: 5000,
    queryFn: () => ask(api.GET("/api/v1/rollouts")),
  });
  const list = (all.data ?? []).slice(0, 5);
  if (list.length === 0) return null;
  return (
    <section aria-label="Rollouts" className="pt-4">
      <ul className="border-t border-line">
        {list.map((r) => (
          <li key={r.id} className="flex flex-wrap gap-x-4 border-b border-line py-1.5">
            <Link to={`/rollouts/${r.id}`} className="font-semibold hover:text-press">
              Rollout of {r.layer}
            </Link>
            <span className={r.state === "stopped" ? "font-semibold text-urgent" : ""}>{said[r.state]}</span>
            <span className="text-muted">
              wave {r.wave} of {r.waves.length}, {number(r.counts["confirmed"] ?? 0)} confirmed
              {r.counts["refused"] ? `, ${number(r.counts["refused"])} refused` : ""}, {ago(r.since, now)}
            </span>
            {r.why && <span className="min-w-0 basis-full truncate text-muted">{r.why}</span>}
          </li>
        ))}
      </ul>
    </section>
  );
}

// sizes reads waves as they are typed: 1, 10%, or a condition, with semicolons between.
const sizes = (text: string): WavePlan["waves"] =>
  text
    .split(";")
    .map((s) => s.trim())
    .filter(Boolean)
    .map((s) =>
      /^\d+$/.test(s)
        ? { count: Number(s) }
        : /^\d+(\.\d+)?\s*%$/.test(s)
          ? { percent: parseFloat(s) }
          : { where: s },
    );

// RolloutDialog begins a rollout of a layer as it is to be.
export function RolloutDialog({ layer, onClose }: { layer: Layer; onClose: () => void }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [waves, setWaves] = useState("1; 25%");
  const [per, setPer] = useState("");
  const [soak, setSoak] = useState("10min");
  const [atMost, setAtMost] = useState("");
  const [during, setDuring] = useState("");
  const [gate, setGate] = useState("");
  const [broken, setBroken] = useState("");
  const plan = {
    waves: sizes(waves),
    per: per || undefined,
    at_most: Number(atMost) || undefined,
    during: during || undefined,
    broken: (broken || undefined) as WavePlan["broken"],
    gate: {
      soak: soak || undefined,
      conditions: gate
        .split("\n")
        .map((s) => s.trim())
        .filter(Boolean),
    },
  } as WavePlan;
  const text = useDelayed(JSON.stringify(plan), 300);
  const planned = useQuery({
    queryKey: ["layers", "rollout-preview", JSON.stringify(layer), text],
    retry: false,
    staleTime: 0,
    queryFn: () =>
      ask(api.POST("/api/v1/rollout-previews", { body: { put: layer, plan: JSON.parse(text) as WavePlan } })),
  });
  const p = planned.data;
  return (
    <Dialog
      title={`Roll ${layer.layer} out in waves`}
      about="Each wave ends at a gate that must hold before the next begins. A gate that breaks stops it."
      verb={p && p.sizes.length > 0 ? `Begin with ${plural(p.sizes[0], "device")}` : "Begin"}
      wide
      ready={Boolean(p && p.sizes.length > 0) && !planned.error}
      act={async () => {
        const r = await ask(
          api.POST("/api/v1/rollouts", { body: { put: layer, plan, preview: p?.preview.preview } }),
        );
        await queries.invalidateQueries({ queryKey: ["layers"] });
        navigate(`/rollouts/${r.id}`);
      }}
      onClose={onClose}
    >
      <div className="grid gap-x-4 sm:grid-cols-2">
        <Entry label="Waves" hint="a number, a share or a condition, with ; between" id="rollout-waves">
          <input
            id="rollout-waves"
            value={waves}
            onChange={(e) => setWaves(e.target.value)}
            className={`${fieldLook} font-mono`}
          />
        </Entry>
        <Entry label="Of each" hint="label, such as label.site; of all if empty" id="rollout-per">
          <input
            id="rollout-per"
            value={per}
            onChange={(e) => setPer(e.target.value)}
            className={`${fieldLook} font-mono`}
          />
        </Entry>
        <Entry label="Gates must hold for" id="rollout-soak">
          <input
            id="rollout-soak"
            value={soak}
            onChange={(e) => setSoak(e.target.value)}
            className={fieldLook}
          />
        </Entry>
        <Entry label="At most at once" hint="no limit if empty" id="rollout-most">
          <input
            id="rollout-most"
            inputMode="numeric"
            value={atMost}
            onChange={(e) => setAtMost(e.target.value)}
            className={fieldLook}
          />
        </Entry>
        <Entry label="Only in these hours" hint="by each site's clock" id="rollout-during">
          <input
            id="rollout-during"
            value={during}
            placeholder="Mon-Fri 06:00-18:00"
            onChange={(e) => setDuring(e.target.value)}
            className={`${fieldLook} font-mono`}
          />
        </Entry>
        <Entry label="If a gate breaks" id="rollout-broken">
          <select
            id="rollout-broken"
            value={broken}
            onChange={(e) => setBroken(e.target.value)}
            className={fieldLook}
          >
            <option value="">stop, and wait for somebody</option>
            <option value="undo_wave">stop, and undo the wave</option>
            <option value="undo">undo all of it</option>
          </select>
        </Entry>
      </div>
      <Entry label="Gate" hint="one condition a line; the usual ones if empty" id="rollout-gate">
        <textarea
          id="rollout-gate"
          rows={3}
          value={gate}
          placeholder={
            "share(device.applied) >= 95 '%'\ncount_of(device.refused) == 0\ncount_of(device.alarmed) == 0"
          }
          onChange={(e) => setGate(e.target.value)}
          className={`${fieldLook} font-mono text-[0.8125rem]`}
        />
      </Entry>
      {planned.error ? (
        <Trouble>{planned.error.message}</Trouble>
      ) : p ? (
        <div aria-live="polite">
          <p>
            <b>{plural(p.preview.devices, "device")}</b> in {plural(p.sizes.length, "wave")}:{" "}
            {p.sizes.join(", ")}
            <span className="text-muted">
              {" "}
              · each gate {lasting(p.soak * 1000)}, all of it {lasting(p.takes * 1000)} at least
              {p.likely === undefined
                ? ", and nobody knows how long, since some have not come back in 30 days"
                : p.likely > p.takes
                  ? `, likely ${lasting(p.likely * 1000)} as they have been off line in the last 30 days`
                  : ""}
              {p.off_line > 0 && ` · ${plural(p.off_line, "device")} off line, which catch up`}
            </span>
          </p>
          {p.waves[0]?.length > 0 && (
            <p className="text-muted">
              The first: {p.waves[0].slice(0, 6).join(", ")}
              {p.waves[0].length > 6 && "…"}
            </p>
          )}
        </div>
      ) : (
        <p className="text-muted">Working out the waves…</p>
      )}
    </Dialog>
  );
}
