import { useQuery } from "@tanstack/react-query";
import { useMemo, useState, type ReactNode } from "react";
import { api, ask, type Board, type Instrument } from "../api/client";
import { useDevices } from "../api/live";
import { boardSpans } from "../lib/history";
import { labelKeys } from "../lib/example";
import { words } from "../lib/format";
import { fieldLook } from "./field";
import { Button } from "./parts";
import { Where } from "./where";

const aggregates = ["mean", "weighted_mean", "min", "max", "sum", "count", "last"];
const measures = ["trace", "dial", "figure", "bars", "histogram", "strip"];

// InstrumentForm is what the picked instrument of a board shows, or what the board itself is,
// where none is picked. Changes show at once.
export default function InstrumentForm({
  board,
  onBoard,
  x,
  onChange,
  onCopy,
  onRemove,
}: {
  board: Board;
  onBoard: (b: Board) => void;
  x?: Instrument;
  onChange: (x: Instrument) => void;
  onCopy: () => void;
  onRemove: () => void;
}) {
  const devices = useDevices();
  const models = useQuery({ queryKey: ["models"], queryFn: () => ask(api.GET("/api/v1/models")) });
  const labels = useMemo(() => labelKeys(devices.values()), [devices]);
  const metrics = useMemo(() => {
    const out = new Map<string, string>();
    for (const m of models.data ?? [])
      for (const p of m.properties)
        if (p.role === "telemetry") out.set(p.name, [p.title ?? words(p.name), m.name].join(", "));
    return [...out].sort(([a], [b]) => a.localeCompare(b));
  }, [models.data]);
  const settings = useMemo(
    () =>
      [
        ...new Set(
          (models.data ?? []).flatMap((m) =>
            m.properties.filter((p) => p.role === "setting").map((p) => p.name),
          ),
        ),
      ].sort(),
    [models.data],
  );
  const commands = useMemo(
    () => [...new Set((models.data ?? []).flatMap((m) => m.actions.map((a) => a.name)))].sort(),
    [models.data],
  );
  if (!x)
    return (
      <aside aria-label="The board" className="border-t border-line pt-2">
        <h2 className="pb-2 font-semibold">The board</h2>
        <Row label="Title" id="b-title">
          <input
            id="b-title"
            value={board.title ?? ""}
            onChange={(e) => onBoard({ ...board, title: e.target.value })}
            className={fieldLook}
          />
        </Row>
        <p className="pb-1">Its devices</p>
        <Where
          value={board.devices ?? ""}
          onChange={(v) => onBoard({ ...board, devices: v || undefined })}
          label="Devices of the board"
          placeholder="all"
        />
        <Row label="Chosen at the top" id="b-parameters">
          <select
            id="b-parameters"
            multiple
            size={Math.min(6, labels.length + 2)}
            value={board.parameters ?? []}
            onChange={(e) => {
              const chosen = [...e.target.selectedOptions].map((o) => o.value);
              onBoard({ ...board, parameters: chosen.length ? chosen : undefined });
            }}
            className={fieldLook}
          >
            {["device", "model", ...labels].map((l) => (
              <option key={l}>{l}</option>
            ))}
          </select>
        </Row>
        <Row label="For the people of these teams, with commas; for everybody if empty" id="b-teams">
          <Names
            id="b-teams"
            value={board.teams ?? []}
            onChange={(teams) => onBoard({ ...board, teams: teams.length ? teams : undefined })}
          />
        </Row>
        <Row label="Opens with" id="b-span">
          <Spans id="b-span" value={board.span ?? "24h"} onChange={(span) => onBoard({ ...board, span })} />
        </Row>
        <p className="pt-2 text-muted">Pick an instrument to change it: by a click, or with Tab.</p>
      </aside>
    );
  const set = (patch: Partial<Instrument>) => onChange({ ...x, ...patch });
  return (
    <aside aria-label="The instrument" className="border-t border-line pt-2">
      <div className="flex items-center gap-2 pb-2">
        <h2 className="min-w-0 flex-1 font-semibold">{x.instrument}</h2>
        <Button onClick={onCopy} className="!px-2 !py-0.5">
          Copy
        </Button>
        <Button onClick={onRemove} className="!px-2 !py-0.5">
          Take off
        </Button>
      </div>
      <Row label="Title" id="i-title">
        <input
          id="i-title"
          value={x.title ?? ""}
          onChange={(e) => set({ title: e.target.value || undefined })}
          className={fieldLook}
          placeholder="said of what it shows"
        />
      </Row>
      {measures.includes(x.instrument) && (
        <Row
          label={x.instrument === "trace" ? "Metrics" : x.instrument === "strip" ? "What it shows" : "Metric"}
          id="i-metric"
        >
          <select
            id="i-metric"
            multiple={x.instrument === "trace"}
            size={x.instrument === "trace" ? 6 : undefined}
            value={
              x.instrument === "trace" ? (x.metrics ?? []) : ofDevice(x.states) || (x.metrics?.[0] ?? "")
            }
            onChange={(e) => {
              const states = stripped.find((o) => ofDevice(o.of) === e.target.value)?.of;
              const metrics = [...e.target.selectedOptions].map((o) => o.value).slice(0, 8);
              if (states) set({ states, metrics: undefined });
              else set({ states: undefined, metrics, ...(metrics.length > 1 && { forecast: undefined }) });
            }}
            className={fieldLook}
          >
            {x.instrument !== "trace" && !x.metrics?.length && !x.states && (
              <option value="">choose one</option>
            )}
            {x.instrument === "strip" &&
              stripped.map((o) => (
                <option key={o.of} value={ofDevice(o.of)}>
                  {o.name}
                </option>
              ))}
            {metrics.map(([name, title]) => (
              <option key={name} value={name}>
                {name} ({title})
              </option>
            ))}
          </select>
        </Row>
      )}
      {x.instrument !== "note" && (
        <div className="pb-2.5">
          <p className="pb-1">Devices, of those of the board</p>
          <Where
            value={x.devices ?? ""}
            onChange={(v) => set({ devices: v || undefined })}
            label="Devices of the instrument"
            placeholder="all of them"
          />
        </div>
      )}
      {["trace", "figure", "bars"].includes(x.instrument) && (
        <Row label="Aggregate" id="i-aggregate">
          <select
            id="i-aggregate"
            value={x.aggregate ?? "mean"}
            onChange={(e) => set({ aggregate: e.target.value as Instrument["aggregate"] })}
            className={fieldLook}
          >
            {aggregates.map((a) => (
              <option key={a} value={a}>
                {words(a)}
              </option>
            ))}
          </select>
        </Row>
      )}
      {x.instrument === "bars" && (
        <Row label="A bar for each" id="i-step">
          <Choose
            id="i-step"
            value={x.step ?? ""}
            none={x.group_by ? "group" : "device, now"}
            options={steps}
            onChange={(v) => set({ step: v || undefined, ...(v && { group_by: undefined }) })}
          />
        </Row>
      )}
      {(x.instrument === "trace" || x.instrument === "vessels" || (x.instrument === "bars" && !x.step)) && (
        <Row label="Group by" id="i-group">
          <select
            id="i-group"
            value={x.group_by ?? ""}
            onChange={(e) => set({ group_by: e.target.value || undefined })}
            className={fieldLook}
          >
            <option value="">each device</option>
            {[...(x.instrument === "trace" ? [] : ["model"]), ...labels].map((l) => (
              <option key={l}>{l}</option>
            ))}
          </select>
        </Row>
      )}
      {(["trace", "figure", "strip", "roster"].includes(x.instrument) || x.step) && (
        <Row label="Span" id="i-span">
          <Spans
            id="i-span"
            value={x.span ?? ""}
            onChange={(v) => set({ span: v || undefined })}
            none="that of the board"
          />
        </Row>
      )}
      {x.instrument === "trace" && (
        <>
          <Row label="Beside it, dashed" id="i-compare">
            <Choose
              id="i-compare"
              value={x.compare ?? ""}
              none="nothing"
              options={compares}
              onChange={(v) => set({ compare: v || undefined })}
            />
          </Row>
          {x.metrics?.length === 1 && (
            <Row label="Forecast, of one device" id="i-forecast">
              <Choose
                id="i-forecast"
                value={x.forecast ?? ""}
                none="none"
                options={forecasts}
                onChange={(v) => set({ forecast: v || undefined })}
              />
            </Row>
          )}
        </>
      )}
      {x.instrument === "dial" && (
        <label className="flex items-center gap-2 pb-2.5">
          <input
            type="checkbox"
            checked={x.linear ?? false}
            onChange={(e) => set({ linear: e.target.checked || undefined })}
          />
          a bar in the place of an arc
        </label>
      )}
      {x.instrument === "tally" && (
        <Row label="Count by" id="i-count">
          <input
            id="i-count"
            list="counts"
            value={x.count ?? ""}
            onChange={(e) => set({ count: e.target.value })}
            className={`${fieldLook} font-mono`}
          />
          <datalist id="counts">
            {["health", "link", "model", "version", ...labels.map((l) => `label.${l}`)].map((c) => (
              <option key={c} value={c} />
            ))}
          </datalist>
        </Row>
      )}
      {x.instrument === "roster" && (
        <Row label="Columns" id="i-columns">
          <select
            id="i-columns"
            multiple
            size={8}
            value={x.columns ?? []}
            onChange={(e) => set({ columns: [...e.target.selectedOptions].map((o) => o.value).slice(0, 20) })}
            className={fieldLook}
          >
            {[
              "health",
              "link",
              "model",
              "headspace",
              "seen",
              ...labels.map((l) => `label.${l}`),
              ...metrics.map(([n]) => n),
            ].map((c) => (
              <option key={c}>{c}</option>
            ))}
          </select>
        </Row>
      )}
      {x.instrument === "plan" && (
        <PlanValue
          devices={[...devices.values()].map((d) => d.id).sort()}
          metrics={metrics.map(([name]) => name)}
          at={x.at ?? {}}
          onChange={(at) => set({ at })}
        />
      )}
      {x.instrument === "plan" && (
        <Row label="Site" id="i-site">
          <input
            id="i-site"
            value={x.site ?? ""}
            onChange={(e) => set({ site: e.target.value || undefined })}
            className={fieldLook}
            placeholder="that of the board"
          />
        </Row>
      )}
      {x.instrument === "note" && (
        <Row label="Text, in Markdown" id="i-text">
          <textarea
            id="i-text"
            rows={8}
            value={x.text ?? ""}
            onChange={(e) => set({ text: e.target.value })}
            className={`${fieldLook} font-mono text-[0.8125rem]`}
          />
        </Row>
      )}
      {x.instrument === "control" && (
        <Row label="Of" id="i-control">
          <select
            id="i-control"
            value={x.command ? `c ${x.command}` : `s ${x.setting ?? ""}`}
            onChange={(e) => {
              const [kind, name] = [e.target.value[0], e.target.value.slice(2)];
              onChange({
                ...x,
                setting: kind === "s" ? name : undefined,
                command: kind === "c" ? name : undefined,
              });
            }}
            className={fieldLook}
          >
            {!x.command && !x.setting && <option value="s ">choose one</option>}
            <optgroup label="A setting">
              {settings.map((s) => (
                <option key={s} value={`s ${s}`}>
                  {s}
                </option>
              ))}
            </optgroup>
            <optgroup label="A command">
              {commands.map((c) => (
                <option key={c} value={`c ${c}`}>
                  {c}
                </option>
              ))}
            </optgroup>
          </select>
        </Row>
      )}
    </aside>
  );
}

function Row({ label, id, children }: { label: string; id: string; children: ReactNode }) {
  return (
    <div className="pb-2.5">
      <label htmlFor={id} className="block pb-1">
        {label}
      </label>
      {children}
    </div>
  );
}

// PlanValue puts values on a plan, in its middle, from where they are dragged to their place, and
// takes them off.
function PlanValue({
  devices,
  metrics,
  at,
  onChange,
}: {
  devices: readonly string[];
  metrics: readonly string[];
  at: NonNullable<Instrument["at"]>;
  onChange: (at: NonNullable<Instrument["at"]>) => void;
}) {
  const [device, setDevice] = useState("");
  const [metric, setMetric] = useState("");
  const key = `${device}/${metric}`;
  const there = Object.keys(at).filter((k) => k.includes("/"));
  const ready = devices.includes(device) && metrics.includes(metric) && !at[key];
  return (
    <fieldset className="pb-2.5">
      <legend className="pb-1">Values on it, dragged to their place</legend>
      {there.map((k) => (
        <p key={k} className="flex items-center gap-2 pb-1">
          <span className="min-w-0 flex-1 truncate">{k.replace("/", ", ")}</span>
          <Button
            className="!px-2 !py-0.5"
            onClick={() => onChange(Object.fromEntries(Object.entries(at).filter(([o]) => o !== k)))}
          >
            Take off
          </Button>
        </p>
      ))}
      <div className="flex flex-wrap gap-1.5">
        <input
          aria-label="Device of the value"
          list="plan-devices"
          placeholder="device"
          value={device}
          onChange={(e) => setDevice(e.target.value)}
          className={`${fieldLook} !w-full`}
        />
        <datalist id="plan-devices">
          {devices.map((d) => (
            <option key={d} value={d} />
          ))}
        </datalist>
        <select
          aria-label="Metric of the value"
          value={metric}
          onChange={(e) => setMetric(e.target.value)}
          className={`${fieldLook} !w-40`}
        >
          <option value="">metric</option>
          {metrics.map((m) => (
            <option key={m}>{m}</option>
          ))}
        </select>
        <Button disabled={!ready} onClick={() => onChange({ ...at, [key]: [50, 50] })}>
          Put on it
        </Button>
      </div>
    </fieldset>
  );
}

// Names are some names, written with commas between them.
function Names({
  id,
  value,
  onChange,
}: {
  id: string;
  value: readonly string[];
  onChange: (v: string[]) => void;
}) {
  const [text, setText] = useState(value.join(", "));
  return (
    <input
      id={id}
      value={text}
      onChange={(e) => {
        setText(e.target.value);
        onChange(
          e.target.value
            .split(",")
            .map((t) => t.trim())
            .filter(Boolean),
        );
      }}
      placeholder="everybody"
      className={fieldLook}
    />
  );
}

const compares = [
  { value: "1h", name: "1 h before" },
  { value: "24h", name: "a day before" },
  { value: "7d", name: "a week before" },
  { value: "28d", name: "four weeks before" },
  { value: "365d", name: "a year before" },
];

const steps = [
  { value: "5min", name: "5 min" },
  { value: "1h", name: "hour" },
  { value: "6h", name: "6 hours" },
  { value: "1d", name: "day" },
  { value: "7d", name: "7 days" },
];

// What a strip shows of devices beside their metrics; no metric is called so.
const stripped = [
  { of: "link", name: "when they were on line" },
  { of: "alarm", name: "when they had an alarm" },
] as const;
const ofDevice = (states: Instrument["states"]) => (states ? `: ${states}` : "");

const forecasts = [
  { value: "1h", name: "1 h ahead" },
  { value: "6h", name: "6 h ahead" },
  { value: "12h", name: "12 h ahead" },
  { value: "24h", name: "24 h ahead" },
  { value: "7d", name: "7 d ahead" },
];

// Choose is one of some options, or none; what a file says beside them stays.
function Choose({
  id,
  value,
  none,
  options,
  onChange,
}: {
  id: string;
  value: string;
  none: string;
  options: { value: string; name: string }[];
  onChange: (v: string) => void;
}) {
  return (
    <select id={id} value={value} onChange={(e) => onChange(e.target.value)} className={fieldLook}>
      <option value="">{none}</option>
      {value && !options.some((o) => o.value === value) && <option>{value}</option>}
      {options.map((o) => (
        <option key={o.value} value={o.value}>
          {o.name}
        </option>
      ))}
    </select>
  );
}

function Spans({
  id,
  value,
  onChange,
  none,
}: {
  id: string;
  value: string;
  onChange: (v: string) => void;
  none?: string;
}) {
  return (
    <select id={id} value={value} onChange={(e) => onChange(e.target.value)} className={fieldLook}>
      {none && <option value="">{none}</option>}
      {!none && !boardSpans.some((s) => s.value === value) && <option>{value}</option>}
      {none && value && !boardSpans.some((s) => s.value === value) && <option>{value}</option>}
      {boardSpans.map((s) => (
        <option key={s.value} value={s.value}>
          {s.name}
        </option>
      ))}
    </select>
  );
}
