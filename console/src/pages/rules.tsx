import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { Link, useLocation, useNavigate, useParams } from "react-router";
import { parse } from "yaml";
import { api, ask, listed, Refusal, tagged, type FolderFinding, type Rule, type Tagged } from "../api/client";
import { fleetNow, useFleet } from "../api/live";
import { Badge } from "../components/badge";
import { Dialog } from "../components/dialog";
import { useTell } from "../components/notices";
import { Button, Choice, Command, Empty, Trouble } from "../components/parts";
import { Responses } from "../components/responses";
import { Replay } from "../components/replay";
import { Suggestions } from "../components/suggestions";
import { Trying } from "../components/rule-try";
import { Versions } from "../components/rule-versions";
import { RuleForm } from "../components/rule-form";
import { Things, type Column } from "../components/things";
import type { Schema } from "../lib/model-complete";
import { exampleOf } from "../lib/example";
import { alreadyOver, blank, formOf, keyed, withKey, written } from "../lib/rule-text";
import { called, plural, rank, say, words } from "../lib/format";
import { useParam, useTitle } from "../lib/use";
import { AlarmTabs } from "./alarms";
import { May, useUnseen } from "../components/may";
import { meQuery } from "../lib/me";
import { whenAsked } from "../lib/when-asked";

const CodeEditor = whenAsked(
  () => import("../components/code-editor"),
  <p className="p-3 text-muted">Loading…</p>,
);

const at = (name: string) => `/rules/${encodeURIComponent(name)}`;

// scope says for which devices a rule is.
const scope = (r: Rule) => r.models.join(", ") + (r.devices ? `, where ${r.devices}` : "");

// put makes or changes a rule; with a tag only in the state that has it.
async function put(r: Rule, tag?: string) {
  return tagged(
    api.PUT("/api/v1/rules/{name}", {
      params: { path: { name: r.rule }, header: tag ? { "If-Match": tag } : {} },
      body: r,
    }),
  );
}

// useRaised tells the open alarms of each rule, of devices and of groups.
function useRaised() {
  const { devices, service } = useFleet();
  return useMemo(() => {
    const out = new Map<string, { device: string; id: string }[]>();
    const add = (rule: string, device: string, id: string) =>
      out.set(rule, [...(out.get(rule) ?? []), { device, id }]);
    for (const d of devices.values()) for (const a of d.alarms) add(a.rule, d.id, a.id);
    for (const a of service?.groups ?? []) add(a.rule, "", a.id);
    return out;
  }, [devices, service]);
}

export function RulesPage() {
  useTitle("Rules");
  const [where] = useParam("where", "");
  const raised = useRaised();
  const queries = useQueryClient();
  const tell = useTell();
  const list = useQuery({
    queryKey: ["rules", where],
    placeholderData: (old) => old,
    queryFn: () => listed(api.GET("/api/v1/rules", { params: { query: { where: where || undefined } } })),
  });
  const counts = useQuery({
    queryKey: ["rules", "counts"],
    queryFn: () => ask(api.GET("/api/v1/alarms/counts", { params: { query: { since: "7d" } } })),
  });
  // A device that a rule watches has a margin from it, once it has measured something.
  const { devices } = useFleet();
  const watched = useMemo(() => {
    const out = new Map<string, number>();
    for (const d of devices.values())
      for (const rule of new Set(d.margins.map((m) => m.rule))) out.set(rule, (out.get(rule) ?? 0) + 1);
    return out;
  }, [devices]);
  const works = useQuery({
    queryKey: ["alarms", "performance", "7d", 1],
    queryFn: () => ask(api.GET("/api/v1/alarm-performance", { params: { query: { span: "7d" } } })),
  });
  const chatter = useMemo(() => new Map(works.data?.rules.map((w) => [w.name, w.chattering])), [works.data]);
  const week = (r: Rule) => counts.data?.find((c) => c.rule === r.rule)?.raised ?? 0;
  const turn = async (r: Rule) => {
    try {
      await put({ ...r, disabled: !r.disabled });
      await queries.invalidateQueries({ queryKey: ["rules"] });
      tell(`${r.rule} is ${r.disabled ? "on" : "off; its open alarms return"}`, {
        undo: () => put(r).then(() => queries.invalidateQueries({ queryKey: ["rules"] })),
      });
    } catch (e) {
      tell((e as Error).message, { bad: true });
    }
  };
  const columns: Column<Rule>[] = [
    {
      key: "rule",
      title: "Rule",
      value: (r) => r.rule,
      cell: (r) => <span className={`font-mono ${r.disabled ? "text-muted" : ""}`}>{r.rule}</span>,
    },
    {
      key: "priority",
      title: "Priority",
      value: (r) => rank(r.priority),
      cell: (r) => (
        <span
          className={`inline-flex h-5 items-center gap-1.5 ${raised.get(r.rule)?.length ? "font-semibold" : "text-muted"}`}
        >
          <span className={raised.get(r.rule)?.length ? "" : "opacity-70 grayscale"}>
            <Badge priority={r.priority} />
          </span>{" "}
          {r.priority}
        </span>
      ),
    },
    {
      key: "raised",
      title: "Raised now",
      right: true,
      value: (r) => raised.get(r.rule)?.length ?? 0,
      cell: (r) => {
        const n = raised.get(r.rule)?.length ?? 0;
        return n ? <b>{n}</b> : <span className="text-muted">–</span>;
      },
    },
    {
      key: "devices",
      title: "Devices",
      right: true,
      value: (r) => watched.get(r.rule) ?? 0,
      cell: (r) => watched.get(r.rule) ?? <span className="text-muted">–</span>,
    },
    {
      key: "day",
      title: "A day",
      right: true,
      value: (r) => week(r) / 7,
      cell: (r) =>
        week(r) ? (
          <span title={`${plural(week(r), "alarm")} in 7 days`}>
            {week(r) < 70 ? (week(r) / 7).toFixed(1) : Math.round(week(r) / 7)}
          </span>
        ) : (
          <span className="text-muted">–</span>
        ),
    },
    {
      key: "chattering",
      title: "Chattering",
      right: true,
      value: (r) => chatter.get(r.rule) ?? 0,
      cell: (r) =>
        chatter.get(r.rule) ? (
          <Link to={`${at(r.rule)}?beside=suggestions`} className="font-semibold text-watch">
            {chatter.get(r.rule)}
          </Link>
        ) : (
          <span className="text-muted">–</span>
        ),
    },
    {
      key: "raise",
      title: "Raises when",
      value: (r) => r.raise,
      cell: (r) => <code className="font-mono text-[0.8125rem] break-words">{r.raise}</code>,
    },
    { key: "scope", title: "Of", value: scope, cell: (r) => <span className="text-muted">{scope(r)}</span> },
    { key: "on_delay", title: "On-delay", value: (r) => r.on_delay, rare: true },
    { key: "deadband", title: "Deadband", value: (r) => r.deadband, right: true, rare: true },
    {
      key: "disabled",
      title: "On",
      value: (r) => Number(r.disabled ?? false),
      cell: (r) => <Switch on={!r.disabled} name={r.rule} onTurn={() => turn(r)} />,
    },
  ];
  return (
    <>
      <AlarmTabs />
      <Responses />
      <Things
        word="rule"
        of="rule"
        items={list.data?.items ?? []}
        total={list.data?.count}
        columns={columns}
        usual="priority"
        name={(r) => r.rule}
        to={(r) => at(r.rule)}
        pending={list.isPending}
        error={list.error}
        retry={list.refetch}
        actions={
          <May role="engineer" some>
            <Link
              to="/rules/new"
              className="rounded-[4px] border border-press bg-press px-3 py-1.5 font-semibold text-on-press"
            >
              New rule
            </Link>
          </May>
        }
        card={(r) => (
          <>
            <span className="flex items-center gap-2">
              <span className={raised.get(r.rule)?.length ? "" : "opacity-70 grayscale"}>
                <Badge priority={r.priority} />
              </span>
              <b className="min-w-0 flex-1 font-mono">{r.rule}</b>
              {r.disabled ? (
                <span className="text-muted">off</span>
              ) : (
                <b>{raised.get(r.rule)?.length ? `${raised.get(r.rule)!.length} raised` : ""}</b>
              )}
            </span>
            <code className="block truncate font-mono text-[0.8125rem] text-muted">{r.raise}</code>
          </>
        )}
        empty={
          <Empty
            title="There is no rule yet"
            why="A rule says when an alarm is raised, and when it returns."
            next={<Command>ullage rule load FILE</Command>}
          />
        }
      />
    </>
  );
}

// Switch turns a rule on and off. It stands inside a row that leads elsewhere.
function Switch({ on, name, onTurn }: { on: boolean; name: string; onTurn: () => void }) {
  return (
    <button
      type="button"
      role="switch"
      aria-checked={on}
      aria-label={`${name} is in force`}
      onClick={(e) => {
        e.stopPropagation();
        onTurn();
      }}
      className={`inline-flex h-5 w-9 items-center rounded-full border bg-surface px-0.5 ${on ? "justify-end border-press" : "justify-start border-muted"}`}
    >
      <span className={`size-3.5 rounded-full ${on ? "bg-press" : "border border-muted"}`} />
    </button>
  );
}

// Nearest lists the devices with the least headspace under a rule.
function Nearest({ rule }: { rule: string }) {
  const { devices } = useFleet();
  const near = [...devices.values()]
    .flatMap((d) => d.margins.filter((m) => m.rule === rule && m.known).map((m) => ({ d, m })))
    .sort((a, b) => a.m.headspace - b.m.headspace);
  if (near.length === 0) return null;
  return (
    <>
      <h2 className="pt-5 pb-1 text-base font-semibold">
        Nearest to the limit{" "}
        <span className="font-normal text-muted">of {plural(near.length, "device")} that it watches</span>
      </h2>
      <ul className="border-t border-line">
        {near.slice(0, 8).map(({ d, m }) => (
          <li
            key={d.id}
            className="grid grid-cols-[minmax(0,1fr)_auto_3.5rem] gap-x-4 border-b border-line py-1"
          >
            <Link to={`/devices/${d.id}/rules`} className={`truncate ${d.name ? "" : "font-mono"}`}>
              {called(d)}
            </Link>
            <span className="text-right text-muted">
              {say(m.value)} <span aria-hidden>→</span> {say(m.limit)} {m.display}
            </span>
            <span className={`text-right ${m.headspace < 0.2 ? "font-semibold text-watch" : ""}`}>
              {Math.round(m.headspace * 100)} %
            </span>
          </li>
        ))}
      </ul>
    </>
  );
}

export function RulePage() {
  const { name = "" } = useParams();
  const making = name === "new";
  useTitle(making ? "New rule" : name);
  const known = useFleet();
  const unseen = useUnseen();
  const rule = useQuery({
    queryKey: ["rules", "one", name],
    enabled: !making,
    retry: false,
    queryFn: () => tagged(api.GET("/api/v1/rules/{name}", { params: { path: { name } } })),
  });
  if (making && known.state === "connecting" && known.devices.size === 0)
    return <p className="py-6 text-muted">Loading…</p>;
  if (making) return <Editor key="new" />;
  if (rule.isPending) return <p className="py-6 text-muted">Loading…</p>;
  const gone = rule.error instanceof Refusal && rule.error.status === 404;
  if (!rule.data)
    return gone ? (
      <Empty
        title={`There is no rule ${name}`}
        why={unseen ?? "It may have been removed. The journal tells by whom."}
        next={
          <Link to={`/journal?rule=${encodeURIComponent(name)}`} className="text-press underline">
            What happened to it
          </Link>
        }
      />
    ) : (
      <Trouble>{rule.error?.message}</Trouble>
    );
  return <Editor key={name} inForce={rule.data} gone={gone} />;
}

// Base is the rule that an editor's text began with.
interface Base extends Partial<Tagged<Rule>> {
  text: string;
}

const baseOf = (r?: Tagged<Rule>, given?: string): Base =>
  r ? { ...r, text: written(r.value) } : { text: given ?? blank(exampleOf(fleetNow().devices.values())) };

// Editor edits one rule. What is typed stays, whatever happens to the rule
// meanwhile: a text that was not touched follows, another one is told.
function Editor({ inForce, gone = false }: { inForce?: Tagged<Rule>; gone?: boolean }) {
  const begun = useLocation().state as { text?: string } | null;
  const [base, setBase] = useState(() => baseOf(inForce, begun?.text));
  const [past, setPast] = useState<string[]>([]); // tags from before one's own save
  const { value: rule, text: stored } = base;
  const [text, setText] = useState(stored);
  const [given, setGiven] = useState({ text: stored });
  const [findings, setFindings] = useState<FolderFinding[]>();
  const [checked, setChecked] = useState<string>(); // the text that they are about
  const [unchecked, setUnchecked] = useState(""); // why the text could not be checked
  const [refused, setRefused] = useState(""); // why it was not saved
  const trouble = refused || unchecked;
  const [jump, setJump] = useState<{ line: number; column: number; n: number }>();
  const [removing, setRemoving] = useState(false);
  const [busy, setBusy] = useState(false);
  const { devices } = useFleet();
  const raised = useRaised().get(rule?.rule ?? "") ?? [];
  const [view, setView] = useParam("as", "form");
  const [beside, setBeside] = useParam("beside", "replay");
  const [trying, setTrying] = useState(false);
  const models = useQuery({ queryKey: ["models", ""], queryFn: () => ask(api.GET("/api/v1/models")) });
  const drawn = useMemo(() => formOf(text), [text]);
  // What is replayed and tried is the rule as it would be sent.
  const sent = useMemo(() => (drawn?.rule && drawn.raise ? (drawn as Rule) : undefined), [drawn]);
  const queries = useQueryClient();
  const navigate = useNavigate();
  const tell = useTell();
  const { data: me } = useQuery(meQuery);
  const schema = useQuery({
    queryKey: ["schema", "rule"],
    staleTime: Infinity,
    queryFn: () => ask(api.GET("/api/v1/schemas/{kind}", { params: { path: { kind: "rule" } } })),
  });
  useEffect(() => {
    let stale = false;
    const path = "rules/this.yaml";
    const timer = window.setTimeout(() => {
      ask(api.POST("/api/v1/folder", { body: { files: [{ path, text }], preview: true } })).then(
        (o) => {
          if (stale) return;
          setFindings(o.findings.filter((f) => f.file === path));
          setChecked(text);
          setUnchecked("");
        },
        (e: Error) => !stale && setUnchecked(e.message),
      );
    }, 250);
    return () => {
      stale = true;
      window.clearTimeout(timer);
    };
  }, [text]);
  const write = (next: string) => {
    setText(next);
    setRefused("");
  };
  // replaceText puts another text into the field, whichever way it is shown.
  const replaceText = (next: string) => {
    write(next);
    setGiven({ text: next });
  };
  const change = (key: keyof Rule, value: unknown) => {
    latest.current = withKey(latest.current, key, value);
    replaceText(latest.current);
  };
  const latest = useRef(text);
  useEffect(() => {
    latest.current = text;
  }, [text]);
  const wrong = findings?.filter((f) => f.severity === "error").length ?? 0;
  const changed = text !== stored;
  const begin = (b: Base) => {
    setBase(b);
    setText(b.text);
    setGiven({ text: b.text });
    setRefused("");
  };
  const other = inForce && inForce.tag !== base.tag && !past.includes(inForce.tag) ? inForce : undefined;
  if (other && !changed) begin(baseOf(other));
  const [asking, setAsking] = useState<string[]>();
  const save = async (asked = false) => {
    setBusy(true);
    try {
      const next = parse(text, { maxAliasCount: 0 }) as Rule;
      const atOnce = asked ? [] : await alreadyOver(next);
      if (atOnce.length) {
        setAsking(atOnce);
        return;
      }
      for (const k of ["cause", "response"] as const) if (next[k] === null) delete next[k];
      const same = next.rule === rule?.rule;
      const now = await put(next, same && !gone ? base.tag : undefined);
      if (same) {
        if (base.tag) setPast([...past, base.tag]);
        begin(baseOf(now));
      }
      await queries.invalidateQueries({ queryKey: ["rules"] });
      tell(`${next.rule} is in force`, {
        undo:
          rule && same
            ? () => put(rule).then(() => queries.invalidateQueries({ queryKey: ["rules"] }))
            : undefined,
      });
      if (!same) navigate(at(next.rule));
    } catch (e) {
      if (e instanceof Refusal && e.status === 412) {
        setPast([]);
        void queries.invalidateQueries({ queryKey: ["rules", "one"] });
      }
      setRefused((e as Error).message);
    } finally {
      setBusy(false);
    }
  };
  const remove = async () => {
    await ask(api.DELETE("/api/v1/rules/{name}", { params: { path: { name: rule!.rule } } }));
    await queries.invalidateQueries({ queryKey: ["rules"] });
    navigate("/rules");
    tell(`${rule!.rule} is removed`, {
      undo: () => put(rule!).then(() => queries.invalidateQueries({ queryKey: ["rules"] })),
    });
  };
  return (
    <div className="flex min-h-[34rem] flex-col lg:h-[calc(100vh-3.5rem)]">
      <p className="pt-3.5 text-muted">
        <Link to="/rules">Rules</Link> › {rule?.rule ?? "new"}
      </p>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pt-1 pb-3">
        <h1 className="text-[1.375rem] leading-tight font-bold">{rule ? words(rule.rule) : "New rule"}</h1>
        <p className={wrong || trouble ? "text-urgent" : "text-muted"} role="status">
          {trouble ||
            (wrong
              ? plural(wrong, "mistake")
              : !findings
                ? "checking…"
                : changed || !rule
                  ? "right; not saved yet"
                  : rule?.disabled
                    ? "off"
                    : "in force")}
        </p>
        <div className="flex flex-wrap items-center gap-2 sm:ml-auto">
          <May role="engineer" some={!rule || rule.author === me?.person}>
            {changed && <Button onClick={() => begin(base)}>{rule ? "As saved" : "Start again"}</Button>}
            {sent && (
              <Button disabled={wrong > 0} onClick={() => setTrying(true)}>
                Try on one reading…
              </Button>
            )}
            {rule && (
              <Button
                onClick={() =>
                  navigate("/rules/new", { state: { text: written({ ...rule, rule: `${rule.rule}_2` }) } })
                }
              >
                Duplicate
              </Button>
            )}
            {rule && <Button onClick={() => setRemoving(true)}>Remove</Button>}
            <Button
              primary
              disabled={busy || wrong > 0 || !findings || Boolean(rule && !changed && !gone)}
              onClick={() => void save()}
            >
              Put in force
            </Button>
          </May>
        </div>
      </div>
      {rule?.access && (
        <p className="pb-3">
          Made by {rule.author}, and for what they reach alone:{" "}
          <code className="font-mono text-[0.8125rem]">{rule.access}</code>
        </p>
      )}
      {(other && changed) || gone ? (
        <div
          role="alert"
          className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2 border border-line bg-band px-3 py-2"
        >
          <p className="min-w-0 flex-1">
            {gone
              ? "This rule was removed by somebody else. Your text is still here: put in force, it makes the rule again."
              : "This rule was changed by somebody else while you were writing. Your text is still here."}
          </p>
          {other && !gone && (
            <>
              <Button onClick={() => begin(baseOf(other))}>Take theirs</Button>
              <Button onClick={() => (setBase(baseOf(other)), setRefused(""))}>Go on with mine</Button>
            </>
          )}
        </div>
      ) : null}
      <div className="grid min-h-0 flex-1 gap-x-7 gap-y-6 lg:grid-cols-[minmax(0,27rem)_minmax(0,1fr)] xl:grid-cols-[minmax(0,32rem)_minmax(0,1fr)]">
        <div className="flex min-h-0 flex-col">
          <div className="flex items-center gap-3 pb-1.5">
            <Choice
              label="How it is written"
              value={view}
              onChange={setView}
              options={[
                { value: "form", name: "Form" },
                { value: "text", name: "Text" },
              ]}
            />
            {view === "form" && !drawn && (
              <span className="text-muted">The text is no rule that a form can show.</span>
            )}
          </div>
          {view === "form" && drawn ? (
            <RuleForm
              rule={drawn}
              models={models.data ?? []}
              findings={keyed(text, findings ?? [])}
              onChange={change}
            />
          ) : (
            <div className="flex h-[60vh] min-h-0 flex-col lg:h-auto lg:flex-1">
              <div className="min-h-0 flex-1">
                <CodeEditor
                  given={given}
                  format="yaml"
                  schema={schema.data as Schema | undefined}
                  mistakes={findings ?? []}
                  label="Alarm rule"
                  onChange={write}
                  jump={jump}
                />
              </div>
              {findings && findings.length > 0 && (
                <ul
                  className="max-h-40 overflow-y-auto border border-t-0 border-line bg-surface"
                  aria-label="Findings"
                >
                  {findings.map((f, i) => (
                    <li key={i}>
                      <button
                        type="button"
                        className={`block w-full px-3 py-1 text-left hover:bg-ground ${f.severity === "error" ? "text-urgent" : "text-watch"}`}
                        onClick={() => setJump({ line: f.line, column: f.column, n: Date.now() })}
                      >
                        <span className="text-muted">
                          {f.line}:{f.column}
                        </span>{" "}
                        {f.sentence}
                      </button>
                    </li>
                  ))}
                </ul>
              )}
            </div>
          )}
          <p className="pt-2 text-muted">
            <Link to="/documents/rules" className="text-press">
              About rules
            </Link>{" "}
            ·{" "}
            <Link to="/documents/expressions" className="text-press">
              about expressions
            </Link>
          </p>
        </div>
        <div className="min-w-0 overflow-y-auto border-line lg:border-l lg:pl-7">
          <div className="pb-2">
            <Choice
              label="What is shown beside it"
              value={beside}
              onChange={setBeside}
              options={[
                { value: "replay", name: "Replay" },
                { value: "suggestions", name: "Suggestions" },
                { value: "now", name: raised.length ? `Raised now on ${raised.length}` : "Now" },
                ...(rule ? [{ value: "versions", name: "Versions" }] : []),
              ]}
            />
          </div>
          {beside === "replay" ? (
            <Replay
              rule={sent}
              wrong={wrong > 0 || !sent || !findings || Boolean(trouble)}
              waiting={checked !== text}
              onRule={(c) => {
                for (const [k, v] of Object.entries(c)) change(k as keyof Rule, v);
              }}
            />
          ) : beside === "suggestions" ? (
            sent && wrong === 0 ? (
              <Suggestions
                rule={sent}
                onUse={(c) => {
                  for (const [k, v] of Object.entries(c)) change(k as keyof Rule, v);
                  setBeside("replay");
                }}
              />
            ) : (
              <p className="text-muted">Once the rule is right.</p>
            )
          ) : beside === "versions" && rule ? (
            <Versions rule={rule} onTake={(r) => (setView("form"), replaceText(written(r)))} />
          ) : (
            <section aria-label="Raised now">
              <h2 className="pb-1 text-base font-semibold">
                {raised.length ? `Raised now on ${raised.length}` : "Raised on nobody now"}
              </h2>
              <ul className="border-t border-line">
                {raised.map((x) => {
                  const d = devices.get(x.device);
                  return (
                    <li key={x.id} className="border-b border-line py-1">
                      <Link to={`/alarms/${x.id}`} className={d && !d.name ? "font-mono" : ""}>
                        {d ? called(d) : "a group"}
                      </Link>
                      {d && <span className="pl-3 text-muted">{d.labels.site}</span>}
                    </li>
                  );
                })}
              </ul>
              {rule && <Nearest rule={rule.rule} />}
            </section>
          )}
        </div>
      </div>
      {trying && sent && <Trying rule={sent} onClose={() => setTrying(false)} />}
      {asking && (
        <Dialog
          title={`Raise it on ${plural(asking.length, "device")} at once?`}
          about={
            <>
              More than a fifth of the devices that the rule is for are over it now:{" "}
              <span className="font-mono text-[0.8125rem]">
                {asking.slice(0, 12).join(", ")}
                {asking.length > 12 && ` and ${asking.length - 12} more`}
              </span>
            </>
          }
          verb="Put in force"
          act={() => save(true)}
          onClose={() => setAsking(undefined)}
        />
      )}
      {removing && rule && (
        <Dialog
          title={`Remove ${rule.rule}?`}
          about={
            raised.length
              ? `${plural(raised.length, "open alarm")} of it will be closed.`
              : "No alarm of it is open."
          }
          verb="Remove it"
          danger
          act={remove}
          onClose={() => setRemoving(false)}
        />
      )}
    </div>
  );
}
