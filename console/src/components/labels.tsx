import { X } from "lucide-react";
import { useMemo } from "react";
import { useFleet } from "../api/live";
import { usePlaces } from "../lib/place";
import { fieldLook } from "./field";

export interface Pair {
  key: string;
  value: string;
}

// toLabels leaves out what is empty.
export const toLabels = (pairs: Pair[]) =>
  Object.fromEntries(
    pairs.filter((p) => p.key.trim() && p.value.trim()).map((p) => [p.key.trim(), p.value.trim()]),
  );

// Labels lets people write labels, with those that other devices have to choose
// from.
export function Labels({ pairs, onChange }: { pairs: Pair[]; onChange: (pairs: Pair[]) => void }) {
  const { devices } = useFleet();
  const sites = usePlaces();
  const known = useMemo(() => {
    const out = new Map<string, Set<string>>();
    const add = (k: string, v: string) => out.set(k, (out.get(k) ?? new Set()).add(v));
    for (const s of sites.data?.items ?? []) add("site", s.site);
    for (const d of devices.values()) for (const [k, v] of Object.entries(d.labels)) add(k, v);
    return out;
  }, [devices, sites.data]);
  const set = (i: number, p: Partial<Pair>) => onChange(pairs.map((x, k) => (k === i ? { ...x, ...p } : x)));
  return (
    <fieldset className="pb-3">
      <legend className="pb-0.5">
        Labels <span className="text-muted">small letters for the key; site says where it is</span>
      </legend>
      <datalist id="label-keys">
        {[...known.keys()].sort().map((k) => (
          <option key={k} value={k} />
        ))}
      </datalist>
      {pairs.map((p, i) => (
        <div key={i} className="flex items-center gap-2 pb-1.5">
          <input
            aria-label={`Key of label ${i + 1}`}
            value={p.key}
            onChange={(e) => set(i, { key: e.target.value })}
            list="label-keys"
            placeholder="key"
            className={`${fieldLook} !w-36 font-mono`}
          />
          =
          <input
            aria-label={`Value of label ${p.key || i + 1}`}
            value={p.value}
            onChange={(e) => set(i, { value: e.target.value })}
            list={`label-values-${i}`}
            placeholder="value"
            className={fieldLook}
          />
          <datalist id={`label-values-${i}`}>
            {[...(known.get(p.key) ?? [])].slice(0, 200).map((v) => (
              <option key={v} value={v} />
            ))}
          </datalist>
          <button
            type="button"
            aria-label={`Take the label ${p.key || i + 1} off`}
            onClick={() => onChange(pairs.filter((_, k) => k !== i))}
            className="px-1 text-muted hover:text-ink"
          >
            <X size={16} />
          </button>
        </div>
      ))}
      <button
        type="button"
        onClick={() => onChange([...pairs, { key: "", value: "" }])}
        className="text-press underline"
      >
        One more label
      </button>
    </fieldset>
  );
}
