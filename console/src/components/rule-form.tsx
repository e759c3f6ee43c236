import { useId, type ReactNode } from "react";
import type { FolderFinding, Model, Rule } from "../api/client";
import { sourceOf, termsOf, type Term } from "../lib/condition";
import { priorities } from "../lib/format";
import { Badge } from "./badge";
import { fieldLook } from "./field";
import { Button } from "./parts";
import { RuleResponses } from "./rule-responses";
import { Where } from "./where";

// RuleForm shows a rule as a form. It changes one key at a time, so that what it does not
// know of stays as it is.
export function RuleForm({
  rule,
  models,
  findings,
  onChange,
}: {
  rule: Partial<Rule>;
  models: Model[];
  findings: (FolderFinding & { key?: string })[];
  onChange: (key: keyof Rule, value: unknown) => void;
}) {
  const id = useId();
  const own = models.filter((m) => rule.models?.includes(m.name));
  const wrong = (key: string) => findings.filter((f) => f.key === key);
  const text = (key: "message" | "cause" | "response", rows: number) => (
    <textarea
      id={`${id}-${key}`}
      rows={rows}
      value={String(rule[key] ?? "")}
      onChange={(e) => onChange(key, e.target.value)}
      className={fieldLook}
    />
  );
  const duration = (key: "on_delay" | "off_delay" | "respond_within", label: string) => (
    <label className="flex items-center gap-2 whitespace-nowrap">
      {label}
      <input
        value={String(rule[key] ?? "")}
        placeholder="0s"
        onChange={(e) => onChange(key, e.target.value || undefined)}
        className={`${fieldLook} !w-20`}
      />
    </label>
  );
  return (
    <div className="overflow-y-auto pr-1">
      <Line label="name" id={`${id}-rule`} wrong={wrong("rule")}>
        <input
          id={`${id}-rule`}
          value={rule.rule ?? ""}
          onChange={(e) => onChange("rule", e.target.value)}
          className={`${fieldLook} font-mono`}
        />
      </Line>
      <Line label="of" wrong={[...wrong("models"), ...wrong("devices"), ...wrong("each")]}>
        <div className="flex flex-wrap gap-x-3 gap-y-1 pb-1.5">
          {models.map((m) => (
            <label key={m.name} className="flex items-center gap-1.5">
              <input
                type="checkbox"
                checked={rule.models?.includes(m.name) ?? false}
                onChange={(e) =>
                  onChange(
                    "models",
                    e.target.checked
                      ? [...(rule.models ?? []), m.name]
                      : (rule.models ?? []).filter((x) => x !== m.name),
                  )
                }
              />
              <span className="font-mono text-[0.8125rem]">{m.name}</span>
            </label>
          ))}
        </div>
        <Where
          value={rule.devices ?? ""}
          onChange={(v) => onChange("devices", v || undefined)}
          label="Only devices for which this is true"
          placeholder="all of them, or those for which this is true"
        />
      </Line>
      <Line label="raise when" wrong={wrong("raise")}>
        <Condition
          source={rule.raise ?? ""}
          models={own}
          group={Boolean(rule.each)}
          onChange={(v) => onChange("raise", v)}
        />
      </Line>
      <Line label="wait" wrong={[...wrong("on_delay"), ...wrong("off_delay")]}>
        <div className="flex flex-wrap gap-x-5 gap-y-1">
          {duration("on_delay", "on-delay")}
          {duration("off_delay", "off-delay")}
        </div>
      </Line>
      <Line label="return when" wrong={[...wrong("deadband"), ...wrong("clear")]}>
        {rule.clear ? (
          <Condition
            source={rule.clear}
            models={own}
            group={Boolean(rule.each)}
            onChange={(v) => onChange("clear", v || undefined)}
          />
        ) : (
          <label className="flex flex-wrap items-center gap-2">
            back inside by a deadband of
            <input
              inputMode="decimal"
              value={String(rule.deadband ?? "")}
              placeholder="0"
              onChange={(e) => onChange("deadband", numeric(e.target.value))}
              className={`${fieldLook} !w-24 text-right`}
            />
            <span className="text-muted">{unitOf(rule, own)}</span>
          </label>
        )}
        <label className="flex items-center gap-1.5 pt-1.5">
          <input
            type="checkbox"
            checked={rule.latch ?? false}
            onChange={(e) => onChange("latch", e.target.checked || undefined)}
          />
          and stay until somebody resets it
        </label>
      </Line>
      <Line label="priority" wrong={[...wrong("priority"), ...wrong("rises"), ...wrong("respond_within")]}>
        <div role="radiogroup" aria-label="Priority" className="flex flex-wrap gap-1 pb-1.5">
          {priorities.map((p) => (
            <button
              key={p}
              type="button"
              role="radio"
              aria-checked={rule.priority === p}
              onClick={() => onChange("priority", p)}
              className={`flex items-center gap-1.5 border-b-2 px-2 py-1 ${rule.priority === p ? "border-ink font-semibold" : "border-transparent text-muted"}`}
            >
              <Badge priority={p} /> {p}
            </button>
          ))}
        </div>
        {duration("respond_within", "somebody has to answer within")}
      </Line>
      <Line label="message" id={`${id}-message`} wrong={wrong("message")}>
        {text("message", 2)}
      </Line>
      <Line label="cause" id={`${id}-cause`} wrong={wrong("cause")}>
        {text("cause", 1)}
      </Line>
      <Line label="respond" id={`${id}-response`} wrong={wrong("response")}>
        {text("response", 2)}
      </Line>
      <Line label="by itself" wrong={wrong("responses")}>
        <RuleResponses rule={rule} models={models} onChange={(v) => onChange("responses", v)} />
      </Line>
      <Line label="suppress" wrong={[...wrong("suppress"), ...wrong("suppresses")]}>
        <Where
          value={rule.suppress ?? ""}
          onChange={(v) => onChange("suppress", v || undefined)}
          label="Suppressed by design while this is true"
          placeholder="never, or while this is true"
          purpose={rule.each ? "group" : "rule"}
          model={own[0]?.name}
        />
      </Line>
    </div>
  );
}

const numeric = (s: string) => (s === "" ? undefined : /^\d+(\.\d*)?$/.test(s) ? Number(s) : s);

// unitOf is the unit of what a rule compares.
function unitOf(rule: Partial<Rule>, models: Model[]): string {
  const metric = /^[a-z][a-z0-9_]*/.exec(rule.raise ?? "")?.[0];
  for (const m of models) for (const p of m.properties) if (p.name === metric) return p.display ?? "";
  return "";
}

function Line({
  label,
  id,
  wrong,
  children,
}: {
  label: string;
  id?: string;
  wrong: FolderFinding[];
  children: ReactNode;
}) {
  return (
    <div className="grid grid-cols-1 gap-x-4 border-b border-line py-2.5 sm:grid-cols-[6rem_minmax(0,1fr)]">
      {id ? (
        <label htmlFor={id} className="pt-1 text-muted">
          {label}
        </label>
      ) : (
        <span className="pt-1 text-muted">{label}</span>
      )}
      <div className="min-w-0">
        {children}
        {wrong.map((f, i) => (
          <p key={i} className={`pt-1 ${f.severity === "error" ? "text-urgent" : "text-watch"}`}>
            {f.sentence}
          </p>
        ))}
      </div>
    </div>
  );
}

const kinds: Record<Term["kind"], string> = {
  above: "above",
  below: "below",
  outside: "outside",
  within: "between",
  is: "is",
  during: "only during",
  except: "not during",
};

// Condition is a condition to choose, where it is one of those that need no expression, and
// else the expression.
function Condition({
  source,
  models,
  group,
  onChange,
}: {
  source: string;
  models: Model[];
  group: boolean;
  onChange: (source: string) => void;
}) {
  const terms = group ? undefined : termsOf(source);
  const own = models.flatMap((m) => m.properties);
  const metrics = own.filter(
    (p, i) => p.role === "telemetry" && p.type !== "text" && own.findIndex((x) => x.name === p.name) === i,
  );
  const settings = own.filter(
    (p, i) =>
      p.role === "setting" &&
      (p.type === "number" || p.type === "integer") &&
      own.findIndex((x) => x.name === p.name) === i,
  );
  const set = (i: number, t: Partial<Term>) =>
    onChange(sourceOf((terms ?? []).map((x, k) => (k === i ? { ...x, ...t } : x))));
  const number = (value: string, label: string, put: (v: string) => void, unit: string) => (
    <span className="flex items-center gap-1">
      <input
        aria-label={label}
        list="limits"
        value={value}
        onChange={(e) => put(e.target.value.trim() || "0")}
        className={`${fieldLook} !w-36 text-right font-mono`}
      />
      <span className="text-muted">{unit}</span>
    </span>
  );
  return (
    <>
      <datalist id="limits">
        {settings.map((p) => (
          <option key={p.name} value={`set.${p.name}`} />
        ))}
      </datalist>
      {terms?.map((t, i) => {
        const p = metrics.find((x) => x.name === t.metric);
        const timed = t.kind === "during" || t.kind === "except";
        return (
          <div key={i} className="flex flex-wrap items-center gap-2 pb-1.5">
            {i > 0 && <span className="text-muted">and</span>}
            {!timed && (
              <select
                aria-label="Metric"
                value={t.metric}
                onChange={(e) => {
                  const next = metrics.find((x) => x.name === e.target.value);
                  set(
                    i,
                    next?.type === "boolean"
                      ? { metric: e.target.value, kind: "is", limit: "true", to: "" }
                      : t.kind === "is"
                        ? { metric: e.target.value, kind: "above", limit: "0" }
                        : { metric: e.target.value },
                  );
                }}
                className={`${fieldLook} !w-auto font-mono`}
              >
                {!p && <option>{t.metric}</option>}
                {metrics.map((x) => (
                  <option key={x.name}>{x.name}</option>
                ))}
              </select>
            )}
            <select
              aria-label="How it is compared"
              value={t.kind}
              onChange={(e) => {
                const kind = e.target.value as Term["kind"];
                set(i, { kind, to: kind === "outside" || kind === "within" ? t.to || t.limit : "" });
              }}
              className={`${fieldLook} !w-auto`}
            >
              {(timed
                ? (["during", "except"] as const)
                : p?.type === "boolean"
                  ? (["is"] as const)
                  : (["above", "below", "outside", "within"] as const)
              ).map((k) => (
                <option key={k} value={k}>
                  {kinds[k]}
                </option>
              ))}
            </select>
            {t.kind === "is" ? (
              <select
                aria-label="Truth"
                value={t.limit}
                onChange={(e) => set(i, { limit: e.target.value })}
                className={`${fieldLook} !w-auto`}
              >
                <option value="true">true</option>
                <option value="false">false</option>
              </select>
            ) : timed ? (
              <input
                aria-label="Hours"
                value={t.limit}
                onChange={(e) => set(i, { limit: e.target.value.replaceAll('"', "") })}
                className={`${fieldLook} !w-52 font-mono`}
              />
            ) : (
              <>
                {number(t.limit, "Limit", (v) => set(i, { limit: v }), t.to ? "" : (p?.display ?? ""))}
                {(t.kind === "outside" || t.kind === "within") && (
                  <>and {number(t.to, "Upper limit", (v) => set(i, { to: v }), p?.display ?? "")}</>
                )}
              </>
            )}
            {terms.length > 1 && (
              <button
                type="button"
                aria-label={`Leave out ${t.metric || "the hours"}`}
                className="px-1 text-muted hover:text-ink"
                onClick={() => onChange(sourceOf(terms.filter((_, k) => k !== i)))}
              >
                ×
              </button>
            )}
          </div>
        );
      })}
      {terms ? (
        <div className="flex flex-wrap gap-2">
          <Button
            className="!px-2 !py-0.5 !font-normal"
            disabled={metrics.length === 0}
            onClick={() =>
              onChange(sourceOf([...terms, { kind: "above", metric: metrics[0].name, limit: "0", to: "" }]))
            }
          >
            and another condition
          </Button>
          <Button
            className="!px-2 !py-0.5 !font-normal"
            onClick={() =>
              onChange(
                sourceOf([...terms, { kind: "during", metric: "", limit: "Mon-Fri 06:00-22:00", to: "" }]),
              )
            }
          >
            and only at some hours
          </Button>
        </div>
      ) : (
        <Where
          value={source}
          onChange={onChange}
          label="Condition"
          placeholder="METRIC > LIMIT"
          purpose={group ? "group" : "rule"}
          model={models[0]?.name}
        />
      )}
    </>
  );
}
