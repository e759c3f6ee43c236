import { useQuery } from "@tanstack/react-query";
import { CircleHelp, X } from "lucide-react";
import { useEffect, useId, useLayoutEffect, useMemo, useRef, useState, type KeyboardEvent } from "react";
import { useNavigationType } from "react-router";
import { api, ask, type Candidate, type ExpressionReport } from "../api/client";
import { watchMatching } from "../api/live";
import { ExpressionHelp } from "./expression-help";
import { useScreen } from "../lib/screen";

const encoder = new TextEncoder();
const decoder = new TextDecoder();

// The service counts in bytes of UTF-8, the browser in UTF-16.
const toBytes = (s: string, index: number) => encoder.encode(s.slice(0, index)).length;
const toIndex = (s: string, bytes: number) => decoder.decode(encoder.encode(s).slice(0, bytes)).length;

interface Props {
  // value is the condition that is in force; it changes only to what is right.
  value: string;
  onChange: (where: string) => void;
  label: string;
  placeholder?: string;
  // of names the noun whose fields the condition is about; devices if it is not given.
  of?: string;
  // purpose is what the condition is for; a filter if it is not given.
  purpose?: "filter" | "access" | "rule" | "group" | "layer";
  // model is that for which it is checked, where the purpose is a rule.
  model?: string;
  // onRight tells whether what stands in the field is right.
  onRight?: (right: boolean) => void;
}

// Where is the condition of a list: a field to write it in, or, on a screen, which can
// choose nothing, its text.
export function Where(props: Props) {
  if (!useScreen()) return <Editing {...props} />;
  return props.value ? <p className="font-mono text-[0.8125rem] text-muted">{props.value}</p> : null;
}

// Editing is the field for the filter of every list: an expression, completed and checked while
// it is typed. A condition takes effect as soon as it is right; while it is
// wrong the one before it stays.
function Editing({ value, onChange, label, placeholder, of, purpose = "filter", model, onRight }: Props) {
  const [text, setText] = useState(value);
  const [cursor, setCursor] = useState(value.length);
  const [open, setOpen] = useState(false);
  const [help, setHelp] = useState(false);
  // The marked candidate stays marked when another answer has it elsewhere in its list.
  const [marked, setMarked] = useState<string>();
  const [settled, setSettled] = useState(true);
  const input = useRef<HTMLInputElement>(null);
  const marks = useRef<HTMLDivElement>(null);
  const list = useRef<HTMLUListElement>(null);
  const id = useId();

  // The address or another part of the page may have set another condition.
  const [seen, setSeen] = useState(value);
  const [focused, setFocused] = useState(false);
  const how = useNavigationType();
  if (value !== seen) {
    setSeen(value);
    // While somebody types, what was handed on comes back when something else
    // stands in the field already.
    if (value !== text.trim() && (!focused || how === "POP")) setText(value);
  }

  const [asked, setAsked] = useState({ source: value, cursor: value.length });
  useEffect(() => {
    const soon = window.setTimeout(() => setAsked({ source: text, cursor }), 70);
    const still = window.setTimeout(() => setSettled(true), 600);
    return () => {
      window.clearTimeout(soon);
      window.clearTimeout(still);
    };
  }, [text, cursor]);
  const check = useQuery({
    queryKey: ["expression", of, purpose, model, asked.source, asked.cursor],
    placeholderData: (old) => old,
    staleTime: 10_000,
    queryFn: async () => ({
      ...asked,
      report: await ask(
        api.POST("/api/v1/expressions/check", {
          body: {
            source: asked.source,
            purpose,
            of,
            model,
            cursor: toBytes(asked.source, asked.cursor),
          },
        }),
      ),
    }),
  });
  const report: ExpressionReport | undefined = check.data?.source === text ? check.data.report : undefined;
  const right = Boolean(report?.canonical);

  useEffect(() => {
    if (check.data?.source !== text) return;
    const next = text.trim() === "" ? "" : right ? text.trim() : undefined;
    if (next !== undefined && next !== value) onChange(next);
  }, [check.data, text, right, value, onChange]);

  const fits = text.trim() === "" || right;
  useEffect(() => onRight?.(fits), [fits, onRight]);

  const candidates = useMemo(
    () => (open && check.data ? stillFit(check.data, text, cursor).slice(0, 30) : []),
    [open, check.data, text, cursor],
  );
  const shown = candidates.length > 0;
  const active = candidates.findIndex((c) => nameOf(c) === marked);
  const findings = text.trim() === "" ? [] : (report?.findings ?? []);
  const quiet = shown && !settled;

  // The cursor goes where it belongs together with the new text, and not later:
  // somebody may be typing on.
  const wanted = useRef<number>(undefined);
  useLayoutEffect(() => {
    if (wanted.current === undefined) return;
    input.current?.setSelectionRange(wanted.current, wanted.current);
    wanted.current = undefined;
  });

  const type = (next: string, at: number) => {
    setText(next);
    setCursor(at);
    setSettled(false);
    setMarked(undefined);
  };
  const put = (start: number, end: number, insert: string, back = 0) => {
    const from = toIndex(text, start);
    const next = text.slice(0, from) + insert + text.slice(toIndex(text, end));
    const at = from + insert.length - back;
    type(next, at);
    input.current?.focus();
    wanted.current = at;
  };
  const choose = (c: Candidate) => {
    put(c.start, c.end, c.text, c.back);
    setOpen(c.kind !== "condition" && (c.kind === "operator" || (c.back ?? 0) > 0));
  };
  const key = (e: KeyboardEvent) => {
    if (e.key === "ArrowDown" || e.key === "ArrowUp") {
      e.preventDefault();
      setOpen(true);
      const n = candidates.length;
      const next = e.key === "ArrowDown" ? (active + 1) % n : active <= 0 ? n - 1 : active - 1;
      if (n > 0) setMarked(nameOf(candidates[next]));
    } else if (e.key === " " && e.ctrlKey) {
      e.preventDefault();
      setOpen(true);
    } else if (e.key === "Enter" && shown && active >= 0) {
      e.preventDefault();
      choose(candidates[active]);
    } else if (e.key === "Tab" && !e.shiftKey && shown && text !== "" && !right) {
      e.preventDefault();
      choose(candidates[Math.max(active, 0)]);
    } else if (e.key === "Enter") {
      setOpen(false);
      setSettled(true);
    } else if (e.key === "Escape" && (open || text !== "")) {
      e.stopPropagation();
      if (shown) setOpen(false);
      else type("", 0);
    }
  };
  useEffect(() => {
    list.current?.querySelector('[aria-selected="true"]')?.scrollIntoView({ block: "nearest" });
  }, [active]);

  const wrong = findings.some((f) => !f.warning);
  return (
    <div className="relative">
      <div
        className={`flex items-stretch rounded-[4px] border bg-surface focus-within:outline-2 focus-within:outline-offset-1 focus-within:outline-press ${wrong && !quiet ? "border-urgent" : "border-line"}`}
      >
        <div className="relative min-w-0 flex-1 font-mono text-[0.8125rem]">
          <div
            ref={marks}
            aria-hidden
            className="pointer-events-none absolute inset-0 overflow-hidden px-2.5 py-1.5 whitespace-pre text-transparent"
          >
            <Marked text={text} findings={findings} />
          </div>
          <input
            ref={input}
            type="text"
            role="combobox"
            aria-label={label}
            aria-expanded={shown}
            aria-controls={`${id}-list`}
            aria-autocomplete="list"
            aria-activedescendant={shown && active >= 0 ? `${id}-${active}` : undefined}
            aria-invalid={wrong}
            aria-describedby={findings.length ? `${id}-findings` : undefined}
            autoComplete="off"
            autoCapitalize="off"
            spellCheck={false}
            placeholder={placeholder}
            value={text}
            onChange={(e) => {
              type(e.target.value, e.target.selectionStart ?? e.target.value.length);
              setOpen(true);
            }}
            onSelect={(e) => setCursor(e.currentTarget.selectionStart ?? 0)}
            onFocus={() => {
              setFocused(true);
              setOpen(text === "");
            }}
            onBlur={() => {
              setFocused(false);
              setOpen(false);
              setSettled(true);
            }}
            onScroll={(e) => {
              if (marks.current) marks.current.scrollLeft = e.currentTarget.scrollLeft;
            }}
            onKeyDown={key}
            className="relative block w-full bg-transparent px-2.5 py-1.5 text-ink !outline-none placeholder:font-sans placeholder:text-muted"
          />
        </div>
        {text !== "" && (
          <button
            type="button"
            aria-label="Clear the filter"
            onClick={() => {
              type("", 0);
              input.current?.focus();
            }}
            className="px-2 text-muted hover:text-ink"
          >
            <X size={15} />
          </button>
        )}
        <button
          type="button"
          aria-label="Help on expressions"
          aria-expanded={help}
          onClick={() => setHelp(!help)}
          className={`border-l border-line px-2 hover:text-ink ${help ? "text-press" : "text-muted"}`}
        >
          <CircleHelp size={16} />
        </button>
      </div>
      {findings.length > 0 && !quiet && (
        <ul id={`${id}-findings`} aria-live="polite" className="pt-1">
          {findings.slice(0, 4).map((f) => (
            <li key={f.start + f.sentence} className={f.warning ? "text-watch" : "text-urgent"}>
              {f.sentence}{" "}
              {f.suggest && (
                <button
                  type="button"
                  className="rounded-[3px] border border-line bg-surface px-1.5 font-mono text-[0.8125rem] text-press hover:border-press"
                  onClick={() => {
                    put(f.start, f.end, f.suggest!);
                    setOpen(false);
                    setSettled(true);
                  }}
                >
                  write {f.suggest}
                </button>
              )}
            </li>
          ))}
          {wrong && purpose === "filter" && value !== "" && value !== text.trim() && (
            <li className="text-muted">
              Until then the list is still filtered by <code className="font-mono">{value}</code>
            </li>
          )}
        </ul>
      )}
      <ul
        ref={list}
        id={`${id}-list`}
        role="listbox"
        aria-label="What can stand here"
        hidden={!shown}
        className="absolute z-20 mt-1 max-h-72 w-full max-w-2xl overflow-auto border border-line bg-surface py-1 shadow-md"
      >
        {candidates.map((c, i) => (
          <li
            key={nameOf(c)}
            id={`${id}-${i}`}
            role="option"
            aria-selected={i === active}
            onMouseDown={(e) => {
              e.preventDefault();
              choose(c);
            }}
            onMouseMove={() => setMarked(nameOf(c))}
            className={`grid cursor-pointer grid-cols-[minmax(0,1fr)_auto] gap-x-4 px-2.5 py-[3px] ${i === active ? "bg-ground" : ""}`}
          >
            <span className="truncate font-mono text-[0.8125rem]">{c.text.trim()}</span>
            <span className="max-w-80 truncate text-muted">
              {[c.detail, c.kind === "condition" || c.kind === "operator" ? "" : c.kind]
                .filter(Boolean)
                .join(" · ")}
            </span>
          </li>
        ))}
      </ul>
      {check.error && <p className="pt-1 text-urgent">{check.error.message}</p>}
      {help && (
        <ExpressionHelp
          onUse={(source) => {
            type(source, source.length);
            setOpen(false);
            setSettled(true);
            input.current?.focus();
          }}
          onClose={() => setHelp(false)}
        />
      )}
    </div>
  );
}

const nameOf = (c: Candidate) => c.kind + c.text;

// stillFit gives the candidates of an answer that are right for what stands in the field
// now: somebody may have typed on since it was asked for. Then those are left that
// have what was typed in them, and they replace that too.
function stillFit(
  was: { source: string; cursor: number; report: ExpressionReport },
  text: string,
  cursor: number,
): Candidate[] {
  const all = was.report.candidates;
  if (text === was.source && cursor === was.cursor) return all;
  const typed = text.slice(was.cursor, cursor);
  if (text !== was.source.slice(0, was.cursor) + typed + was.source.slice(was.cursor) || !/^\w+$/.test(typed))
    return [];
  const more = encoder.encode(typed).length;
  const at = toBytes(was.source, was.cursor);
  return all
    .filter((c) => {
      const word = (was.source.slice(toIndex(was.source, c.start), was.cursor) + typed).toLowerCase();
      return c.start <= at && c.end >= at && c.text.toLowerCase().includes(word);
    })
    .map((c) => ({ ...c, end: c.end + more }));
}

// Marked draws the wave under what is wrong, behind the text of the field.
function Marked({ text, findings }: { text: string; findings: ExpressionReport["findings"] }) {
  const spans = findings
    .map((f) => ({
      from: toIndex(text, f.start),
      to: Math.max(toIndex(text, f.end), toIndex(text, f.start) + 1),
      warning: f.warning,
    }))
    .sort((a, b) => a.from - b.from);
  const out = [];
  let at = 0;
  for (const s of spans) {
    if (s.from < at) continue;
    out.push(text.slice(at, s.from));
    out.push(
      <span
        key={s.from}
        className={`underline decoration-wavy decoration-1 underline-offset-2 ${s.warning ? "decoration-watch" : "decoration-urgent"}`}
      >
        {text.slice(s.from, s.to).padEnd(1, " ")}
      </span>,
    );
    at = Math.max(s.to, at);
  }
  out.push(text.slice(at));
  return <>{out}</>;
}

// useMatching tells which devices a condition is true for; nothing where there
// is no condition. Pending is whether the answer is still to come the first time.
export function useMatching(where: string): {
  matching?: ReadonlySet<string>;
  pending: boolean;
  wrong?: string;
} {
  const [heard, setHeard] = useState<{ where: string; ids: ReadonlySet<string>; wrong?: string }>();
  useEffect(() => {
    if (where === "") return;
    return watchMatching(where, (ids, wrong) => setHeard({ where, ids, wrong }));
  }, [where]);
  if (where === "") return { pending: false };
  // Until the first answer for another condition, what was shown stays.
  return { matching: heard?.ids, pending: !heard, wrong: heard?.wrong };
}
