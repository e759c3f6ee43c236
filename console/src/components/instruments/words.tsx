import { useQuery, useQueryClient } from "@tanstack/react-query";
import { lexer, type Token, type Tokens } from "marked";
import { Fragment, useId, useMemo, useState, type ReactNode } from "react";
import { Link } from "react-router";
import { api, ask, type Instrument } from "../../api/client";
import { useChosen, useProperty, type Seen } from "../../lib/board";
import { plural, say, words } from "../../lib/format";
import { useMayAll } from "../may";
import { GiveOne } from "../command-many";
import { Dialog } from "../dialog";
import { choicesOf, Field } from "../field";
import { useTell } from "../notices";
import { Button } from "../parts";
import { readValue } from "../../lib/layers";
import { Frame, None, titleOf } from "./parts";

// Note shows Markdown. It is drawn from its tokens, each as an element of its own, so that
// HTML in it is text and nothing of it runs.
export function Note({ x }: { x: Instrument }) {
  const tokens = useMemo(() => lexer(x.text ?? "", { gfm: true }), [x.text]);
  return (
    <Frame title={titleOf(x)}>
      <div className="document">{blocks(tokens)}</div>
    </Frame>
  );
}

const blocks = (tokens: Token[]): ReactNode => tokens.map((t, i) => <Fragment key={i}>{block(t)}</Fragment>);

function block(t: Token): ReactNode {
  switch (t.type) {
    case "heading":
      return <h3 className="font-semibold">{inline((t as Tokens.Heading).tokens)}</h3>;
    case "paragraph":
      return <p className="pb-1.5">{inline((t as Tokens.Paragraph).tokens)}</p>;
    case "list": {
      const l = t as Tokens.List;
      const items = l.items.map((item, i) => <li key={i}>{blocks(item.tokens)}</li>);
      return l.ordered ? (
        <ol className="list-decimal pl-5">{items}</ol>
      ) : (
        <ul className="list-disc pl-5">{items}</ul>
      );
    }
    case "blockquote":
      return (
        <blockquote className="border-l-2 border-line pl-3">
          {blocks((t as Tokens.Blockquote).tokens)}
        </blockquote>
      );
    case "code":
      return (
        <pre className="overflow-x-auto font-mono text-[0.8125rem]" tabIndex={0}>
          {(t as Tokens.Code).text}
        </pre>
      );
    case "hr":
      return <hr className="border-line" />;
    case "text":
      return "tokens" in t && t.tokens ? inline(t.tokens) : (t as Tokens.Text).text;
    case "space":
      return null;
  }
  return <p>{t.raw}</p>;
}

const inline = (tokens: Token[] | undefined): ReactNode =>
  tokens?.map((t, i) => <Fragment key={i}>{span(t)}</Fragment>);

function span(t: Token): ReactNode {
  switch (t.type) {
    case "strong":
      return <b>{inline((t as Tokens.Strong).tokens)}</b>;
    case "em":
      return <i>{inline((t as Tokens.Em).tokens)}</i>;
    case "codespan":
      return <code className="font-mono text-[0.8125rem]">{(t as Tokens.Codespan).text}</code>;
    case "br":
      return <br />;
    case "link": {
      const { href, tokens } = t as Tokens.Link;
      if (href.startsWith("/") && !href.startsWith("//"))
        return (
          <Link to={href} className="text-press underline">
            {inline(tokens)}
          </Link>
        );
      if (/^(https?:|mailto:)/i.test(href))
        return (
          <a href={href} rel="noreferrer noopener" className="text-press underline">
            {inline(tokens)}
          </a>
        );
      return inline(tokens);
    }
    case "text":
    case "escape":
      return "tokens" in t && t.tokens ? inline(t.tokens) : plain((t as Tokens.Text).text);
  }
  return t.raw;
}

// The lexer writes some signs as HTML does.
const plain = (s: string) =>
  s
    .replaceAll("&lt;", "<")
    .replaceAll("&gt;", ">")
    .replaceAll("&quot;", '"')
    .replaceAll("&#39;", "'")
    .replaceAll("&amp;", "&");

// Control sets a setting on the devices, or gives them a command.
export function Control({ x, seen }: { x: Instrument; seen: Seen }) {
  if (seen.asOf)
    return (
      <Frame title={titleOf(x)}>
        <None>Nothing is set in the past.</None>
      </Frame>
    );
  return x.command ? <Ordered x={x} seen={seen} /> : <Set x={x} seen={seen} />;
}

function Ordered({ x, seen }: { x: Instrument; seen: Seen }) {
  const { devices, pending } = useChosen(seen.where);
  const models = useQuery({ queryKey: ["models"], queryFn: () => ask(api.GET("/api/v1/models")) });
  const with_ = new Map(
    (models.data ?? []).flatMap((m) =>
      m.actions.filter((a) => a.name === x.command).map((a) => [m.name, a] as const),
    ),
  );
  const able = devices.filter((d) => with_.has(d.model));
  const action = able[0] && with_.get(able[0].model);
  const may = useMayAll("operator");
  const [asking, setAsking] = useState(false);
  return (
    <Frame title={titleOf(x)} aside={plural(able.length, "device")}>
      {!action ? (
        <None>
          {pending || models.isPending ? "Loading…" : `None of the devices has the command ${x.command}.`}
        </None>
      ) : (
        <>
          {action.description && <p className="pb-2 text-muted">{action.description}</p>}
          {may ? (
            <Button onClick={() => setAsking(true)}>{action.title ?? words(action.name)}…</Button>
          ) : (
            <p className="text-muted">An operator can give it.</p>
          )}
          {asking && (
            <GiveOne chosen={able.map((d) => d.id)} action={action} onClose={() => setAsking(false)} />
          )}
        </>
      )}
    </Frame>
  );
}

function Set({ x, seen }: { x: Instrument; seen: Seen }) {
  const name = x.setting ?? "";
  const { devices, pending } = useChosen(seen.where);
  const p = useProperty(name, devices, true);
  const models = useQuery({ queryKey: ["models"], queryFn: () => ask(api.GET("/api/v1/models")) });
  const having = new globalThis.Set(
    (models.data ?? []).filter((m) => m.properties.some((q) => q.name === name)).map((m) => m.name),
  );
  const able = devices.filter((d) => having.has(d.model));
  const may = useMayAll("operator");
  const tell = useTell();
  const queries = useQueryClient();
  const field = useId();
  const [text, setText] = useState("");
  const [asking, setAsking] = useState(false);
  const one = useQuery({
    queryKey: ["settings", able[0]?.id],
    enabled: able.length === 1,
    queryFn: () => ask(api.GET("/api/v1/devices/{id}/settings", { params: { path: { id: able[0].id } } })),
  });
  const now = one.data?.settings.find((s) => s.name === name);
  return (
    <Frame title={titleOf(x, p)} aside={able.length === 1 ? able[0].id : plural(able.length, "device")}>
      {!p || able.length === 0 ? (
        <None>
          {pending || models.isPending ? "Loading…" : `None of the devices has the setting ${name}.`}
        </None>
      ) : (
        <>
          {now && (
            <p className="pb-1.5">
              <b>{say(now.applied ?? now.intended, now)}</b> <span className="text-muted">{now.display}</span>{" "}
              <span className={now.state === "refused" ? "text-watch" : "text-muted"}>{now.state}</span>
            </p>
          )}
          {!may ? (
            <p className="text-muted">An operator can set it.</p>
          ) : (
            <div className="flex flex-wrap items-center gap-2">
              <label htmlFor={field} className="sr-only">
                {words(name)}
              </label>
              <span className="w-28">
                <Field
                  id={field}
                  type={p.type}
                  value={text}
                  choices={choicesOf(p.type, p.enum)}
                  onChange={setText}
                />
              </span>
              <Button disabled={text === ""} onClick={() => setAsking(true)}>
                Send to {able.length === 1 ? "it" : plural(able.length, "device")}…
              </Button>
            </div>
          )}
          {asking && (
            <Dialog
              title={`Set ${words(name)} to ${text} ${p.display ?? ""}`}
              about={`On ${able.length === 1 ? able[0].id : plural(able.length, "device")}: it stands over every layer until it is taken off.`}
              verb={`Set it on ${plural(able.length, "device")}`}
              act={async () => {
                const j = await ask(
                  api.POST("/api/v1/settings", {
                    body: { devices: able.map((d) => d.id), set: { [name]: readValue(p.type, text) } },
                  }),
                );
                await queries.invalidateQueries({ queryKey: ["settings"] });
                setText("");
                tell(`${words(name)} goes to ${plural(j.devices, "device")}; each confirms it by itself.`);
              }}
              onClose={() => setAsking(false)}
            />
          )}
        </>
      )}
    </Frame>
  );
}
