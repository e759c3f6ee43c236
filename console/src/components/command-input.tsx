import { useState, type ReactNode } from "react";
import { type Affordance, type GivenCommand } from "../api/client";
import { say, words } from "../lib/format";
import { choicesOf, Field, fieldLook, rangeOf } from "./field";

// useCommandInput holds what is typed as the input of a command: its fields, or JSON where
// the model does not name any. read says what is wrong by an error.
export function useCommandInput(action: Affordance): { fields: ReactNode; read: () => unknown } {
  const known = action.fields ?? [];
  const [texts, setTexts] = useState<Record<string, string>>(() =>
    Object.fromEntries(known.map((f) => [f.name, String(f.default ?? "")])),
  );
  const [raw, setRaw] = useState(() => JSON.stringify(action.example, null, 2));
  const read = () => {
    if (action.example === undefined) return undefined;
    if (known.length === 0) {
      try {
        return JSON.parse(raw) as unknown;
      } catch {
        throw new Error("The input is not JSON yet.");
      }
    }
    const o: Record<string, unknown> = {};
    for (const f of known) {
      const text = texts[f.name].trim();
      if (text === "") {
        if (!f.required) continue;
        throw new Error(`${f.name} is needed.`);
      }
      o[f.name] =
        f.type === "boolean" ? text === "true" : f.type === "text" ? text : Number(text.replace(",", "."));
      if (typeof o[f.name] === "number" && Number.isNaN(o[f.name]))
        throw new Error(`${f.name} is "${text}"; it must be a number`);
    }
    return o;
  };
  const fields =
    action.example === undefined ? null : known.length === 0 ? (
      <label className="block border-t border-line py-2">
        <span className="block pb-1 text-muted">Input as JSON: {action.data}</span>
        <textarea
          value={raw}
          onChange={(e) => setRaw(e.target.value)}
          rows={8}
          spellCheck={false}
          className={`${fieldLook} font-mono text-[0.8125rem]`}
        />
      </label>
    ) : (
      known.map((f) => {
        const id = `input-${f.name}`;
        return (
          <div
            key={f.name}
            className="grid grid-cols-[minmax(0,1fr)_9rem] items-center gap-x-4 border-t border-line py-2"
          >
            <label htmlFor={id}>
              <span className="font-mono text-[0.8125rem]">{f.name}</span>
              <span className="block text-muted">
                {[f.title, rangeOf(f), !f.required && "may be left out"].filter(Boolean).join(", ")}
              </span>
            </label>
            <Field
              id={id}
              type={f.type}
              value={texts[f.name]}
              choices={choicesOf(f.type, f.enum)}
              onChange={(v) => setTexts((t) => ({ ...t, [f.name]: v }))}
            />
          </div>
        );
      })
    );
  return { fields, read };
}

// Expires asks how long a command waits for its reply.
export function Expires({ value, onChange }: { value: string; onChange: (v: string) => void }) {
  return (
    <label className="grid grid-cols-[minmax(0,1fr)_9rem] items-center gap-x-4 border-t border-line py-2">
      <span>
        Given up
        <span className="block text-muted">if the device has not replied</span>
      </span>
      <select value={value} onChange={(e) => onChange(e.target.value)} className={fieldLook}>
        <option value="">after 1 min</option>
        <option value="10min">after 10 min</option>
        <option value="1h">after 1 h</option>
        <option value="next contact">1 min after it comes</option>
      </select>
    </label>
  );
}

// brief is an input or an output in a line.
export function brief(x: unknown): string {
  if (x === undefined || x === null) return "";
  if (typeof x !== "object" || Array.isArray(x)) return JSON.stringify(x);
  return Object.entries(x)
    .map(
      ([k, v]) =>
        `${words(k)} ${Array.isArray(v) ? v.join("; ") : typeof v === "object" ? JSON.stringify(v) : say(v)}`,
    )
    .join(", ");
}

export const waits = (c: GivenCommand) => c.phase === "waiting" || c.phase === "sent";
