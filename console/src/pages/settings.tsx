import { useQuery, useQueryClient } from "@tanstack/react-query";
import { ArrowDown, ArrowUp } from "lucide-react";
import { useState, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";
import { api, ask, type LayerStatus, type LayerSummary } from "../api/client";
import { AtOnce, LayerDialog, PreviewList, usePreview } from "../components/layer-form";
import { Dialog } from "../components/dialog";
import { useMayAll } from "../components/may";
import { useTell } from "../components/notices";
import { Button, Command, Empty, Trouble } from "../components/parts";
import { CommandJobs } from "../components/command-many";
import { Rollouts } from "../components/rollouts";
import { Where } from "../components/where";
import { number, plural } from "../lib/format";
import { chosenBy, valuesOf } from "../lib/layers";
import { useMay } from "../lib/me";
import { useTitle } from "../lib/use";

// SettingsPage shows the layers as strata, the highest first, over the defaults of the
// models, with how far the devices of each are.
export default function SettingsPage() {
  useTitle("Settings");
  const may = useMayAll("engineer");
  const makes = useMay()("engineer", true);
  const [making, setMaking] = useState(false);
  const [order, setOrder] = useState<string[]>();
  const layers = useQuery({
    queryKey: ["layers", "summaries"],
    refetchInterval: 15_000,
    queryFn: () => ask(api.GET("/api/v1/layer-summaries")),
  });
  const whole = useQuery({
    queryKey: ["layers", "status", ""],
    refetchInterval: 15_000,
    queryFn: () => ask(api.GET("/api/v1/layer-status")),
  });
  const rows = [...(layers.data ?? [])].reverse();
  const names = (layers.data ?? []).map((l) => l.layer);
  const move = (name: string, by: number) => {
    const next = [...names];
    const at = next.indexOf(name);
    next.splice(at, 1);
    next.splice(at + by, 0, name);
    setOrder(next);
  };
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pt-4 pb-3">
        <h1 className="text-xl font-bold">Settings</h1>
        <p className="max-w-[46rem] text-muted">
          Layers stand one over the other: where two give a setting, the higher one wins.
        </p>
        <span className="ml-auto">
          {makes && (
            <Button primary onClick={() => setMaking(true)}>
              New layer
            </Button>
          )}
        </span>
      </div>
      {whole.data && <Convergence status={whole.data} />}
      <Rollouts />
      {layers.isPending ? (
        <p className="py-4 text-muted">Loading…</p>
      ) : layers.error ? (
        <Trouble>{layers.error.message}</Trouble>
      ) : (
        <div className="mt-4">
          <Ground
            name="Set on a device"
            about="what people set on one device itself stands over everything"
          />
          <Ground name="Responses" about="what rules set by themselves while an alarm is raised">
            <Link to="/rules" className="text-press">
              rules
            </Link>
          </Ground>
          {rows.length === 0 ? (
            <div className="border-y border-line bg-surface px-4">
              <Empty
                title="There are no layers"
                why="Every device has the defaults of its model, and what is set on it. A layer gives settings to all devices that its target chooses, also to those that join tomorrow."
                next={<Command>ullage layer set base report_every=30</Command>}
              />
            </div>
          ) : (
            <ol aria-label="Layers, the highest first">
              {rows.map((l, i) => (
                <Stratum
                  key={l.layer}
                  layer={l}
                  move={may ? (by) => move(l.layer, by) : undefined}
                  first={i === 0}
                  last={i === rows.length - 1}
                />
              ))}
            </ol>
          )}
          <Ground name="Models" about="the defaults of each model, below all layers">
            <Link to="/models" className="text-press">
              models
            </Link>
          </Ground>
        </div>
      )}
      <Forbidden />
      <CommandJobs />
      <WhoHas />
      {making && <LayerDialog names={names} onClose={() => setMaking(false)} />}
      {order && <OrderDialog order={order} onClose={() => setOrder(undefined)} />}
    </>
  );
}

const states = [
  { key: "as_intended", of: "applied", name: "as intended", look: "bg-line" },
  { key: "pending", of: "pending", name: "pending", look: "bg-press/60" },
  { key: "refused", of: "refused", name: "refused", look: "bg-watch" },
  { key: "drifted", of: "drift", name: "drift", look: "bg-watch/50" },
  { key: "waiting", of: "waiting", name: "waiting for their wave", look: "bg-muted/60" },
] as const;

// Convergence is how far all devices are with what they were given.
export function Convergence({ status, target }: { status: LayerStatus; target?: string }) {
  const shown = (state: string) => {
    // Who waits for a wave is as intended for now; which those are the rollout knows.
    const waiting = (status.devices.waiting ?? []).map((id) => JSON.stringify(id)).join(", ");
    if (state === "waiting") return `/?view=list&where=${encodeURIComponent(`device.id in (${waiting})`)}`;
    const is = `device.settings == "${state}"`;
    return `/?where=${encodeURIComponent(target ? `(${target}) and ${is}` : is)}`;
  };
  const text = states.map((s) => `${number(status[s.key])} ${s.name}`).join(", ");
  return (
    <section aria-label="How far devices are" className="max-w-[62rem]">
      <div
        className="flex h-3 overflow-hidden border border-line"
        role="img"
        aria-label={`${plural(status.scope, "device")}: ${text}`}
      >
        {states.map((s) => (
          <span key={s.key} className={s.look} style={{ flexGrow: status[s.key] }} />
        ))}
      </div>
      <p className="flex flex-wrap gap-x-5 pt-1.5">
        {states.map((s) => (
          <span key={s.key} className={status[s.key] === 0 && s.key !== "as_intended" ? "text-muted" : ""}>
            <span className={`mr-1.5 inline-block size-2.5 ${s.look}`} aria-hidden />
            {status[s.key] > 0 && s.key !== "as_intended" ? (
              <Link to={shown(s.of)} className="text-press underline">
                <b>{number(status[s.key])}</b> {s.name}
              </Link>
            ) : (
              <>
                <b>{number(status[s.key])}</b> {s.name}
              </>
            )}
          </span>
        ))}
        <span className="ml-auto text-muted">
          {number(status.live)} on line, {number(status.off_line)} off line
        </span>
      </p>
      {status.scope > 0 && <OverTime layer={status.of} />}
      {status.reasons.map((r) => (
        <p key={r.setting + r.reason} className="pt-1">
          <code className="font-mono text-[0.8125rem]">{r.setting}</code> refused by{" "}
          {plural(r.devices.length, "device")}: {r.reason} ·{" "}
          {r.devices.slice(0, 4).map((id, i) => (
            <span key={id}>
              {i > 0 && ", "}
              <Link to={`/devices/${id}`} className="text-press underline">
                {id}
              </Link>
            </span>
          ))}
          {r.devices.length > 4 && ` and ${number(r.devices.length - 4)} more`}
        </p>
      ))}
    </section>
  );
}

const spans = ["1h", "24h", "7d", "30d"];

// OverTime draws how devices came to have what is intended for them now.
function OverTime({ layer = "" }: { layer?: string }) {
  const [span, setSpan] = useState("24h");
  const over = useQuery({
    queryKey: ["layers", "over-time", layer, span],
    refetchInterval: 30_000,
    queryFn: () => ask(api.GET("/api/v1/layer-status/over-time", { params: { query: { layer, span } } })),
  });
  const points = over.data?.points ?? [];
  const scope = over.data?.scope ?? 0;
  if (over.error) return <Trouble>{over.error.message}</Trouble>;
  if (over.data && scope === 0) return null;
  const first = points[0]?.as_intended ?? 0;
  const last = points[points.length - 1]?.as_intended ?? 0;
  // A line that has moved at its very end only says no more than the numbers do.
  const moves = points.filter((p) => p.as_intended !== first).length > 1;
  const w = 600;
  const h = 40;
  const y = (n: number) => h - 1 - (n / Math.max(1, scope)) * (h - 2);
  const path = points
    .map((p, i) => {
      const x = (i / (points.length - 1)) * w;
      return i === 0 ? `M0 ${y(p.as_intended)}` : `H${x.toFixed(1)}V${y(p.as_intended).toFixed(1)}`;
    })
    .join("");
  return (
    <figure className="pt-3">
      <figcaption className="flex flex-wrap items-center gap-x-3 pb-1 text-muted">
        <span>
          How it went: {number(first)} → <b className="text-ink">{number(last)}</b> of {number(scope)} had
          what is intended for them now
        </span>
        <select
          aria-label="Span"
          value={span}
          onChange={(e) => setSpan(e.target.value)}
          className="ml-auto rounded-[4px] border border-line bg-ground px-1.5 py-0.5"
        >
          {spans.map((s) => (
            <option key={s} value={s}>
              last {s.replace(/(\d+)/, "$1 ")}
            </option>
          ))}
        </select>
      </figcaption>
      {moves && (
        <svg
          viewBox={`0 0 ${w} ${h}`}
          preserveAspectRatio="none"
          className="h-12 w-full border-b border-line"
          role="img"
          aria-label={`${first} of ${scope} devices at the beginning of the span, ${last} at its end`}
        >
          <line
            x1="0"
            x2={w}
            y1="1"
            y2="1"
            stroke="var(--line)"
            strokeDasharray="3 4"
            vectorEffect="non-scaling-stroke"
          />
          {points.length > 1 && (
            <>
              <path d={`${path}V${h}H0Z`} fill="var(--series)" opacity="0.12" />
              <path
                d={path}
                fill="none"
                stroke="var(--series)"
                strokeWidth="1.5"
                vectorEffect="non-scaling-stroke"
              />
            </>
          )}
        </svg>
      )}
    </figure>
  );
}

// Forbidden is what devices would lose with the newest version of their model.
function Forbidden() {
  const all = useQuery({
    queryKey: ["layers", "forbidden"],
    queryFn: () => ask(api.GET("/api/v1/forbidden-values")),
  });
  if (!all.data || all.data.length === 0) return null;
  return (
    <section aria-label="What the next model version forbids" className="pt-8">
      <h2 className="pb-1 font-semibold">What the next model version forbids</h2>
      <ul className="max-w-[62rem] border-t border-line">
        {all.data.map((f) => (
          <li
            key={[f.model, f.setting, f.value, f.source, f.name].join(" ")}
            className="grid gap-x-4 border-b border-line py-1.5 sm:grid-cols-[14rem_minmax(0,1fr)_auto]"
          >
            <span>
              <code className="font-mono text-[0.8125rem]">{f.setting}</code> <b>{f.value}</b>
            </span>
            <span className="text-muted">
              from{" "}
              {f.source === "layer" ? (
                <Link to={`/settings/${f.name}`} className="text-press underline">
                  {f.name}
                </Link>
              ) : f.source === "response" ? (
                `the response of ${f.name}`
              ) : (
                "the device itself"
              )}
              ; {f.model} {f.version}: {f.why}
            </span>
            <Link
              to={`/?where=${encodeURIComponent(`device.id in (${f.devices.map((d) => JSON.stringify(d)).join(", ")})`)}`}
              className="text-press underline"
            >
              {plural(f.devices.length, "device")}
            </Link>
          </li>
        ))}
      </ul>
    </section>
  );
}

// Ground is what stands above or below all layers.
function Ground({ name, about, children }: { name: string; about: string; children?: ReactNode }) {
  return (
    <p className="flex flex-wrap gap-x-3 border-x border-dashed border-line px-4 py-1.5 text-muted">
      <span>{name}</span>
      <span className="max-sm:hidden">{about}</span>
      <span className="ml-auto">{children}</span>
    </p>
  );
}

// Stratum is one layer of the list.
function Stratum({
  layer,
  move,
  first,
  last,
}: {
  layer: LayerSummary;
  move?: (by: number) => void;
  first: boolean;
  last: boolean;
}) {
  const navigate = useNavigate();
  const to = `/settings/${layer.layer}`;
  const wrong = layer.refused + layer.drifted;
  return (
    <li
      className={`grid cursor-pointer grid-cols-[minmax(0,1fr)_auto] gap-x-4 border border-t-0 border-line bg-surface px-4 py-2.5 first:border-t hover:border-l-press lg:grid-cols-[minmax(0,22rem)_minmax(0,1fr)_13rem_auto] ${layer.devices === 0 ? "text-muted" : ""}`}
      onClick={() => navigate(to)}
    >
      <div className="min-w-0">
        <Link to={to} className="text-base font-semibold" onClick={(e) => e.stopPropagation()}>
          {layer.layer}
        </Link>
        <p className="flex flex-wrap gap-x-3 font-mono text-[0.8125rem]">
          {valuesOf(layer.set).map(([k, v]) => (
            <span key={k} className="whitespace-nowrap">
              {k} <b className="font-semibold">{v}</b>
            </span>
          ))}
        </p>
      </div>
      <div className="min-w-0 max-lg:col-span-2 max-lg:row-start-2">
        <p className="truncate font-mono text-[0.8125rem]" title={chosenBy(layer)}>
          {chosenBy(layer) || "all devices"}
        </p>
        <Spread over={layer.spread} />
      </div>
      <p className="max-lg:hidden">
        {layer.devices === 0 ? (
          "chooses no device now"
        ) : (
          <>
            <b>{number(layer.devices)}</b> {layer.devices === 1 ? "device" : "devices"}
            <br />
            <span className={wrong ? "font-semibold text-watch" : "text-muted"}>
              {wrong
                ? [layer.refused && `${layer.refused} refused`, layer.drifted && `${layer.drifted} drifted`]
                    .filter(Boolean)
                    .join(", ")
                : layer.pending
                  ? `${number(layer.pending)} pending`
                  : layer.waiting
                    ? ""
                    : "all as intended"}
            </span>
            {layer.waiting > 0 && (
              <span className="text-muted">
                {wrong + layer.pending > 0 && ", "}
                {number(layer.waiting)} waiting
              </span>
            )}
          </>
        )}
      </p>
      <div className="flex gap-1 self-center" onClick={(e) => e.stopPropagation()}>
        {move && (
          <>
            <Button
              className="!p-1"
              disabled={first}
              aria-label={`Move ${layer.layer} up`}
              onClick={() => move(1)}
            >
              <ArrowUp size={16} aria-hidden />
            </Button>
            <Button
              className="!p-1"
              disabled={last}
              aria-label={`Move ${layer.layer} down`}
              onClick={() => move(-1)}
            >
              <ArrowDown size={16} aria-hidden />
            </Button>
          </>
        )}
      </div>
    </li>
  );
}

// Spread says how many devices of each site a layer chooses.
function Spread({ over }: { over: Record<string, number> }) {
  const list = Object.entries(over).sort((a, b) => b[1] - a[1]);
  if (list.length === 0) return null;
  return (
    <p className="flex flex-wrap gap-x-3 text-[0.8125rem] text-muted">
      {list.slice(0, 6).map(([site, n]) => (
        <span key={site} className="whitespace-nowrap">
          {site || "without a site"} {number(n)}
        </span>
      ))}
      {list.length > 6 && <span>and {plural(list.length - 6, "more site")}</span>}
    </p>
  );
}

// WhoHas leads to the devices that have a value.
function WhoHas() {
  const navigate = useNavigate();
  return (
    <section className="max-w-[46rem] pt-8">
      <h2 className="pb-1 font-semibold">Who has which value?</h2>
      <Where
        value=""
        onChange={(v) => v && navigate(`/?where=${encodeURIComponent(v)}`)}
        label="Devices that have a value"
        placeholder="intended.max_temp > 30"
      />
      <p className="pt-1 text-muted">
        Names of settings stand behind <code className="font-mono">intended.</code> for what they should be
        and <code className="font-mono">set.</code> for what devices have confirmed. A device's page says
        where each value is from.
      </p>
    </section>
  );
}

function OrderDialog({ order, onClose }: { order: string[]; onClose: () => void }) {
  const tell = useTell();
  const queries = useQueryClient();
  const { preview, pending, error } = usePreview({ order });
  const [atOnce, setAtOnce] = useState(false);
  return (
    <Dialog
      title="Another order of the layers"
      about={`From the highest: ${[...order].reverse().join(", ")}`}
      verb={preview && preview.devices > 0 ? `Change ${plural(preview.devices, "device")}` : "Move it"}
      wide
      ready={!pending && !error && (atOnce || !preview?.waves)}
      act={async () => {
        await ask(
          api.POST("/api/v1/layer-changes", { body: { order, preview: preview?.preview, at_once: atOnce } }),
        );
        await queries.invalidateQueries({ queryKey: ["layers"] });
        tell("The layers stand in another order.");
      }}
      onClose={onClose}
    >
      <PreviewList preview={preview} pending={pending} error={error} />
      <AtOnce preview={preview} value={atOnce} onChange={setAtOnce} />
    </Dialog>
  );
}
