import { X } from "lucide-react";
import type { Model, Rule, RuleResponse } from "../api/client";
import { readValue } from "../lib/layers";
import { choicesOf, Field, fieldLook } from "./field";
import { Button } from "./parts";

// RuleResponses is what a rule does by itself, as a form.
export function RuleResponses({
  rule,
  models,
  onChange,
}: {
  rule: Partial<Rule>;
  models: Model[];
  onChange: (responses: RuleResponse[] | undefined) => void;
}) {
  const all = (rule.responses ?? []) as RuleResponse[];
  const put = (i: number, r: RuleResponse) => onChange(all.map((x, k) => (k === i ? r : x)));
  const properties = models.flatMap((m) => m.properties);
  const settings = properties.filter(
    (p, i) => p.role === "setting" && properties.findIndex((x) => x.name === p.name) === i,
  );
  const commands = [...new Set(models.flatMap((m) => m.commands ?? []))];
  const setting = (name: string) => settings.find((s) => s.name === name);
  const start = (name: string) => {
    const p = setting(name);
    return p?.default ?? p?.enum?.[0] ?? p?.minimum ?? "";
  };
  return (
    <>
      {all.map((r, i) => (
        <fieldset key={i} className="border-b border-line pb-2 mb-2">
          <legend className="sr-only">Response {i + 1}</legend>
          <div className="flex flex-wrap items-center gap-2 pb-1.5">
            <select
              aria-label="What it does"
              value={r.command === undefined ? "set" : "command"}
              onChange={(e) =>
                put(
                  i,
                  e.target.value === "set"
                    ? {
                        devices: r.devices,
                        set: { [settings[0]?.name ?? ""]: start(settings[0]?.name ?? "") },
                      }
                    : { devices: r.devices, command: commands[0] ?? "" },
                )
              }
              className={`${fieldLook} !w-auto`}
            >
              <option value="set">set while raised</option>
              <option value="command">give a command</option>
            </select>
            {r.command !== undefined ? (
              <>
                <select
                  aria-label="Command"
                  value={r.command}
                  onChange={(e) => put(i, { ...r, command: e.target.value, input: undefined })}
                  className={`${fieldLook} !w-auto font-mono`}
                >
                  {!commands.includes(r.command) && <option>{r.command}</option>}
                  {commands.map((c) => (
                    <option key={c}>{c}</option>
                  ))}
                </select>
                <select
                  aria-label="When"
                  value={r.when ?? "raised"}
                  onChange={(e) =>
                    put(i, { ...r, when: e.target.value === "returned" ? "returned" : undefined })
                  }
                  className={`${fieldLook} !w-auto`}
                >
                  <option value="raised">when it is raised</option>
                  <option value="returned">when it returns</option>
                </select>
                {r.input && <code className="font-mono text-[0.8125rem]">{JSON.stringify(r.input)}</code>}
              </>
            ) : (
              Object.entries(r.set ?? {}).map(([name, v]) => {
                const p = setting(name);
                return (
                  <span key={name} className="flex items-center gap-2">
                    <select
                      aria-label="Setting"
                      value={name}
                      onChange={(e) => {
                        const next = { ...r.set };
                        delete next[name];
                        put(i, { ...r, set: { ...next, [e.target.value]: start(e.target.value) } });
                      }}
                      className={`${fieldLook} !w-auto font-mono`}
                    >
                      {!p && <option>{name}</option>}
                      {settings.map((s) => (
                        <option key={s.name}>{s.name}</option>
                      ))}
                    </select>
                    <label className="sr-only" htmlFor={`response-${i}-${name}`}>
                      Value of {name}
                    </label>
                    <span className="w-28">
                      <Field
                        id={`response-${i}-${name}`}
                        type={p?.type ?? "text"}
                        value={String(v)}
                        choices={choicesOf(p?.type ?? "text", p?.enum)}
                        onChange={(x) =>
                          put(i, { ...r, set: { ...r.set, [name]: readValue(p?.type ?? "text", x) } })
                        }
                      />
                    </span>
                  </span>
                );
              })
            )}
            <button
              type="button"
              aria-label={`Remove response ${i + 1}`}
              className="ml-auto text-muted hover:text-ink"
              onClick={() => {
                const next = all.filter((_, k) => k !== i);
                onChange(next.length ? next : undefined);
              }}
            >
              <X size={16} aria-hidden />
            </button>
          </div>
          <input
            aria-label="Devices it acts on"
            value={r.devices ?? ""}
            onChange={(e) => put(i, { ...r, devices: e.target.value || undefined })}
            placeholder="on the device itself, or such as label.site == this.site"
            className={`${fieldLook} font-mono text-[0.8125rem]`}
          />
          {r.command === undefined && (
            <label className="flex items-center gap-1.5 pt-1.5">
              <input
                type="checkbox"
                checked={r.aside === "release"}
                onChange={(e) => put(i, { ...r, aside: e.target.checked ? "release" : undefined })}
              />
              take it off while the alarm is suppressed or out of service, or the rule is off
            </label>
          )}
        </fieldset>
      ))}
      <Button
        className="!px-2.5 !py-1"
        disabled={settings.length === 0}
        onClick={() => onChange([...all, { set: { [settings[0].name]: start(settings[0].name) } }])}
      >
        Add a response
      </Button>
    </>
  );
}
