import { useQuery, useQueryClient } from "@tanstack/react-query";
import { X } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import {
  api,
  ask,
  listed,
  type Layer,
  type LayerChange,
  type LayerPreview,
  type Model,
  type Property,
} from "../api/client";
import { number, plural, say, sealed } from "../lib/format";
import { readValue } from "../lib/layers";
import { meQuery, useMay } from "../lib/me";
import { useDelayed } from "../lib/use";
import { Dialog, Entry } from "./dialog";
import { choicesOf, Field, fieldLook, rangeOf } from "./field";
import { useTell } from "./notices";
import { Trouble } from "./parts";
import { Where } from "./where";

// usePreview works out what a change of layers would do, a moment after it was made.
export function usePreview(change: LayerChange | undefined) {
  const text = useDelayed(JSON.stringify(change), 250);
  const query = useQuery({
    queryKey: ["layers", "preview", text],
    enabled: Boolean(text),
    retry: false,
    staleTime: 0,
    queryFn: () => ask(api.POST("/api/v1/layer-previews", { body: JSON.parse(text!) as LayerChange })),
  });
  const late = text !== JSON.stringify(change);
  return {
    preview: query.data,
    pending: Boolean(change) && (query.isPending || late),
    error: late ? null : query.error,
  };
}

const shown = 200;

// PreviewList is what would change on which devices.
export function PreviewList({
  preview,
  pending,
  error,
}: {
  preview?: LayerPreview;
  pending: boolean;
  error?: Error | null;
}) {
  if (error) return <Trouble>{error.message}</Trouble>;
  if (!preview) return <p className="text-muted">{pending ? "Working out what would change…" : ""}</p>;
  const lacking = Object.entries(preview.lacking ?? {});
  return (
    <div className={pending ? "opacity-60" : ""} aria-busy={pending}>
      <p>
        <b>
          {preview.devices === 0
            ? "No device would have other settings now"
            : `${plural(preview.settings, "setting")} of ${plural(preview.devices, "device")} would change`}
        </b>
        {preview.scope > 0 && (
          <span className="text-muted"> · the target chooses {plural(preview.scope, "device")}</span>
        )}
      </p>
      {preview.off_line > 0 && (
        <p className="text-muted">
          {plural(preview.off_line, "device")} off line; they get it when they return
        </p>
      )}
      {preview.refused_before > 0 && (
        <p className="text-watch">
          {plural(preview.refused_before, "device")} refused one of these settings before
        </p>
      )}
      {preview.warnings?.map((w) => (
        <p key={w} className="text-watch">
          {w}
        </p>
      ))}
      {lacking.map(([name, models]) => (
        <p key={name} className="text-muted">
          {models.join(", ")} {models.length === 1 ? "has" : "have"} no setting{" "}
          <code className="font-mono">{name}</code>
        </p>
      ))}
      {preview.differences.length > 0 && (
        <div
          className="mt-2 max-h-[45vh] overflow-auto border-t border-line"
          tabIndex={0}
          role="region"
          aria-label="What would change"
        >
          <table className="w-full border-collapse">
            <thead className="sticky top-0 bg-surface">
              <tr className="text-left text-muted">
                <th scope="col" className="py-1 pr-4 font-normal">
                  device
                </th>
                <th scope="col" className="py-1 pr-4 font-normal">
                  setting
                </th>
                <th scope="col" className="py-1 pr-4 text-right font-normal">
                  is
                </th>
                <th scope="col" className="py-1 pr-4 text-right font-normal">
                  would be
                </th>
                <th scope="col" className="py-1 font-normal">
                  by
                </th>
              </tr>
            </thead>
            <tbody>
              {preview.differences.slice(0, shown).map((d) => (
                <tr key={`${d.device} ${d.setting}`} className="border-t border-line align-top">
                  <td className="py-1 pr-4">
                    <Link to={`/devices/${d.device}`} className="hover:text-press">
                      {d.device}
                    </Link>
                    {d.off_line && <span className="text-muted"> off line</span>}
                    {d.refused && <span className="block text-watch">refused before: {d.refused}</span>}
                  </td>
                  <td className="py-1 pr-4 font-mono text-[0.8125rem]">{d.setting}</td>
                  <td className="py-1 pr-4 text-right text-muted">{say(d.from)}</td>
                  <td className="py-1 pr-4 text-right font-semibold">{say(d.to)}</td>
                  <td className="py-1 text-muted">{[d.source, d.name].filter(Boolean).join(" ")}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {preview.settings > shown && (
            <p className="py-1 text-muted">and {number(preview.settings - shown)} more</p>
          )}
        </div>
      )}
    </div>
  );
}

// settingsOf are the settings of all models, each once.
function settingsOf(models: Model[]): (Property & { models: string[] })[] {
  const out = new Map<string, Property & { models: string[] }>();
  for (const m of models)
    for (const p of m.properties) {
      if (p.role !== "setting") continue;
      const known = out.get(p.name);
      if (known) known.models.push(m.name);
      else out.set(p.name, { ...p, models: [m.name] });
    }
  return [...out.values()].sort((a, b) => a.name.localeCompare(b.name));
}

export function useModels() {
  return useQuery({ queryKey: ["models", "all"], queryFn: () => listed(api.GET("/api/v1/models")) });
}

// LayerForm is a layer to fill in.
export function LayerForm({
  layer,
  fresh,
  onChange,
}: {
  layer: Layer;
  fresh: boolean;
  onChange: (l: Layer) => void;
}) {
  const models = useModels();
  const settings = settingsOf(models.data?.items ?? []);
  const set = (name: string, v: unknown) => onChange({ ...layer, set: { ...layer.set, [name]: v } });
  const left = settings.filter((s) => !(s.name in layer.set));
  return (
    <>
      {fresh && (
        <Entry label="Name" hint="small letters, like white-must" id="layer-name">
          <input
            id="layer-name"
            value={layer.layer}
            onChange={(e) =>
              onChange({ ...layer, layer: e.target.value.toLowerCase().replaceAll(/[ _]/g, "-") })
            }
            className={fieldLook}
            autoFocus
          />
        </Entry>
      )}
      <div className="pb-3">
        <p className="pb-0.5">
          Devices <span className="text-muted">all, or those for which this is true</span>
        </p>
        <Where
          value={layer.target ?? ""}
          onChange={(v) => onChange({ ...layer, target: v || undefined })}
          label="Target of the layer"
          placeholder='all devices, or such as label.must == "white"'
          purpose="layer"
        />
      </div>
      <p className="pb-0.5">Settings</p>
      <ul className="border-t border-line">
        {Object.keys(layer.set)
          .sort()
          .map((name) => {
            const p = settings.find((s) => s.name === name);
            const v = layer.set[name];
            const type = p?.type ?? "text";
            return (
              <li
                key={name}
                className="grid grid-cols-[minmax(0,1fr)_8rem_auto_auto] items-center gap-x-3 border-b border-line py-1.5"
              >
                <label htmlFor={`layer-set-${name}`} className="min-w-0">
                  <span className="font-mono text-[0.8125rem]">{name}</span>
                  <span className="block truncate text-[0.8125rem] text-muted">
                    {p ? [p.title, rangeOf(p)].filter(Boolean).join(", ") : "no model has it"}
                  </span>
                </label>
                {v === null ? (
                  <span className="text-right text-muted">default holds</span>
                ) : (
                  <Field
                    id={`layer-set-${name}`}
                    type={type}
                    value={sealed(v) ? "" : String(v)}
                    secret={p?.secret}
                    choices={choicesOf(type, p?.enum)}
                    onChange={(x) => set(name, readValue(type, x))}
                  />
                )}
                <label className="flex items-center gap-1 whitespace-nowrap text-[0.8125rem]">
                  <input
                    type="checkbox"
                    checked={v === null}
                    onChange={(e) => set(name, e.target.checked ? null : (p?.default ?? ""))}
                  />
                  take off
                </label>
                <button
                  type="button"
                  aria-label={`Say nothing of ${name}`}
                  className="text-muted hover:text-ink"
                  onClick={() => {
                    const next = { ...layer.set };
                    delete next[name];
                    onChange({ ...layer, set: next });
                  }}
                >
                  <X size={16} aria-hidden />
                </button>
              </li>
            );
          })}
      </ul>
      <select
        aria-label="Add a setting"
        value=""
        onChange={(e) => {
          const p = settings.find((s) => s.name === e.target.value);
          if (p)
            set(
              p.name,
              p.default ??
                (p.type === "boolean" ? false : p.type === "text" ? (p.enum?.[0] ?? "") : (p.minimum ?? 0)),
            );
        }}
        className={`${fieldLook} mt-2 !w-56`}
      >
        <option value="">Add a setting…</option>
        {left.map((s) => (
          <option key={s.name} value={s.name}>
            {s.name} — {s.models.join(", ")}
          </option>
        ))}
      </select>
      <div className="pt-3">
        <Entry label="What it is for" id="layer-why">
          <input
            id="layer-why"
            value={layer.why ?? ""}
            maxLength={400}
            onChange={(e) => onChange({ ...layer, why: e.target.value || undefined })}
            className={fieldLook}
          />
        </Entry>
      </div>
    </>
  );
}

// LayerDialog makes a layer, which stands on top.
export function LayerDialog({ names, onClose }: { names: string[]; onClose: () => void }) {
  const tell = useTell();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const { data: me } = useQuery(meQuery);
  const limited = !useMay()("engineer");
  const prefix = limited && me ? `${me.person.replace(/[^a-z0-9]+/g, "-")}-` : "";
  const [layer, setLayer] = useState<Layer>({ layer: prefix, set: {} });
  const whole = layer.layer !== "" && Object.keys(layer.set).length > 0;
  const { preview, pending, error } = usePreview(whole ? { put: layer } : undefined);
  const [atOnce, setAtOnce] = useState(false);
  const taken = names.includes(layer.layer);
  return (
    <Dialog
      title="New layer"
      about={
        limited
          ? `It stands on top of the others, and is for the devices that you have. Its name begins with ${prefix}`
          : "It stands on top of the others; it can be moved afterwards."
      }
      verb={preview && preview.devices > 0 ? `Change ${plural(preview.devices, "device")}` : "Save"}
      wide
      ready={whole && !pending && !error && !taken && (atOnce || !preview?.waves)}
      act={async () => {
        await ask(
          api.POST("/api/v1/layer-changes", {
            body: { put: layer, preview: preview?.preview, at_once: atOnce },
          }),
        );
        await queries.invalidateQueries({ queryKey: ["layers"] });
        tell(`The layer ${layer.layer} is made.`);
        navigate(`/settings/${layer.layer}`);
      }}
      onClose={onClose}
    >
      <LayerForm layer={layer} fresh onChange={setLayer} />
      {taken && <Trouble>There is a layer {layer.layer} already.</Trouble>}
      <PreviewList preview={preview} pending={pending} error={error} />
      <AtOnce preview={preview} value={atOnce} onChange={setAtOnce} />
    </Dialog>
  );
}

// AtOnce asks whether so many devices may change at once that it should go out in waves.
export function AtOnce({
  preview,
  value,
  onChange,
}: {
  preview?: LayerPreview;
  value: boolean;
  onChange: (v: boolean) => void;
}) {
  if (!preview?.waves) return null;
  return (
    <label className="flex items-start gap-2 border-t border-line py-2.5" role="status">
      <input type="checkbox" checked={value} onChange={(e) => onChange(e.target.checked)} className="mt-1" />
      <span>
        Change all {number(preview.devices)} devices at once
        <span className="block text-muted">
          Above {number(preview.waves_above ?? 0)} devices a change goes out in waves, each with a gate that
          stops it when something goes wrong.
        </span>
      </span>
    </label>
  );
}
