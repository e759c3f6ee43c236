import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { parse, stringify } from "yaml";
import { api, ask, type Model, type ModelPreview } from "../api/client";
import { Changes } from "../components/changes";
import { ModelDoc } from "../components/model-doc";
import { useTell } from "../components/notices";
import { Button, Choice, Trouble } from "../components/parts";
import type { Schema } from "../lib/model-complete";
import { plural } from "../lib/format";
import { useParam, useTitle } from "../lib/use";
import { whenAsked } from "../lib/when-asked";

const CodeEditor = whenAsked(
  () => import("../components/code-editor"),
  <p className="p-3 text-muted">Loading…</p>,
);

type Format = "json" | "yaml";

const blank = `{
  "@context": ["https://www.w3.org/2022/wot/td/v1.1", { "ullage": "urn:ullage:vocabulary:" }],
  "@type": "tm:ThingModel",
  "title": "Cask lid",
  "version": { "model": "0.1.0" },
  "ullage:name": "cask-lid",
  "ullage:interval": "15min",
  "properties": {
    "cask_temp": {
      "title": "Cask temperature",
      "type": "number",
      "unit": "Cel",
      "minimum": -5,
      "maximum": 40,
      "readOnly": true,
      "ullage:role": "telemetry",
      "ullage:decimals": 1,
      "ullage:usual": [11, 15]
    }
  }
}
`;

// written is JSON with short lists on one line.
function written(x: unknown): string {
  const s = JSON.stringify(x, null, 2);
  return (
    s.replace(/\[\s+([^[\]{}]{1,90}?)\s+\]/g, (_, items: string) => `[${items.replace(/\s*\n\s*/g, " ")}]`) +
    "\n"
  );
}

// What was written and not published stays in this browser.
const draftKey = (name: string) => `ullage-draft-model-${name || "new"}`;

export default function ModelEditPage() {
  const { name = "" } = useParams();
  const [version] = useParam("version", "");
  const [from, setFrom] = useParam("from", "");
  useTitle(name ? `Change ${name}` : "Write a model");
  const at = version ? `${name}@${version}` : name;
  const source = useQuery({
    queryKey: ["model-source", at],
    enabled: name !== "",
    staleTime: Infinity,
    queryFn: () => ask(api.GET("/api/v1/models/{name}/source", { params: { path: { name: at } } })),
  });
  if (name && source.isPending) return <p className="py-6 text-muted">Loading…</p>;
  if (source.error) return <Trouble>{source.error.message}</Trouble>;
  const published = name ? written(source.data) : blank;
  if (from === "message")
    return <FromMessage onText={(t) => (localStorage.setItem(draftKey(""), t), setFrom(""))} />;
  return <Editor key={at} name={name} published={published} />;
}

function Editor({ name, published }: { name: string; published: string }) {
  const draft = localStorage.getItem(draftKey(name));
  const [text, setText] = useState(draft ?? published);
  const [given, setGiven] = useState({ text }); // what the editor was last handed
  const hand = (t: string) => {
    setText(t);
    setGiven({ text: t });
  };
  const [format, setFormat] = useState<Format>(() =>
    (draft ?? published).trimStart().startsWith("{") ? "json" : "yaml",
  );
  const [side, setSide] = useParam("show", "page");
  const [jump, setJump] = useState<{ line: number; column: number; n: number }>();
  const [preview, setPreview] = useState<ModelPreview>();
  const [sound, setSound] = useState<Model>(); // as it read when the text was last right
  const [trouble, setTrouble] = useState("");
  const queries = useQueryClient();
  const navigate = useNavigate();
  const tell = useTell();
  const schema = useQuery({
    queryKey: ["schema", "model"],
    staleTime: Infinity,
    queryFn: () => ask(api.GET("/api/v1/schemas/{kind}", { params: { path: { kind: "model" } } })),
  });
  useEffect(() => {
    if (text === published) localStorage.removeItem(draftKey(name));
    else localStorage.setItem(draftKey(name), text);
  }, [text, published, name]);
  useEffect(() => {
    let stale = false;
    const timer = window.setTimeout(() => {
      ask(api.POST("/api/v1/models/preview", { body: { text, format } })).then(
        (p) => {
          if (stale) return;
          setPreview(p);
          setTrouble("");
          if (p.model) setSound(p.model);
        },
        (e: Error) => !stale && setTrouble(e.message),
      );
    }, 250);
    return () => {
      stale = true;
      window.clearTimeout(timer);
    };
  }, [text, format]);
  const publish = useMutation({
    mutationFn: async () => {
      const body = format === "json" ? (JSON.parse(text) as never) : (parse(text) as never);
      return ask(api.POST("/api/v1/models", { body }));
    },
    onSuccess: async (m) => {
      localStorage.removeItem(draftKey(name));
      await queries.invalidateQueries();
      tell(`${m.name} ${m.version} is published. Devices stay with their version until they are moved.`);
      navigate(`/models/${m.name}`);
    },
  });
  const turn = (to: Format) => {
    if (to === format) return;
    try {
      hand(
        to === "yaml"
          ? stringify(JSON.parse(text), { lineWidth: 100 })
          : written(parse(text, { maxAliasCount: 0 })),
      );
      setFormat(to);
    } catch {
      tell("The text has to be whole before it can be turned into the other form.", { bad: true });
    }
  };
  const wrong = preview?.findings.filter((f) => f.severity === "error").length ?? 0;
  const may = preview && (preview.state === "new" || preview.state === "version");
  return (
    <div className="flex min-h-[34rem] flex-col lg:h-[calc(100vh-3.5rem)]">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 py-3">
        <h1 className="text-[1.375rem] leading-tight font-bold">
          {name ? `Change ${name}` : "Write a model"}
        </h1>
        <p className={wrong || preview?.state === "refused" ? "text-urgent" : "text-muted"} role="status">
          {trouble || verdict(preview, wrong)}
        </p>
        <div className="ml-auto flex flex-wrap items-center gap-2">
          <Choice
            label="Form"
            value={format}
            onChange={(f) => turn(f as Format)}
            options={[
              { value: "json", name: "JSON" },
              { value: "yaml", name: "YAML" },
            ]}
          />
          {text !== published && (
            <Button onClick={() => hand(published)}>{name ? "As published" : "Start again"}</Button>
          )}
          <Button primary disabled={!may || publish.isPending} onClick={() => publish.mutate()}>
            {publish.isPending
              ? "Publishing…"
              : may && preview.model
                ? `Publish ${preview.model.version}`
                : "Publish"}
          </Button>
        </div>
      </div>
      {publish.error && <Trouble>{publish.error.message}</Trouble>}
      <div className="grid min-h-0 flex-1 gap-4 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
        <div className="flex h-[60vh] min-h-0 flex-col lg:h-auto">
          <div className="min-h-0 flex-1">
            <CodeEditor
              given={given}
              format={format}
              schema={schema.data as Schema | undefined}
              mistakes={preview?.findings ?? []}
              label="Thing Model"
              onChange={setText}
              jump={jump}
            />
          </div>
          {preview && preview.findings.length > 0 && (
            <ul
              className="max-h-40 overflow-y-auto border border-t-0 border-line bg-surface"
              aria-label="Findings"
            >
              {preview.findings.map((f, i) => (
                <li key={i}>
                  <button
                    type="button"
                    onClick={() => setJump({ line: f.line, column: f.column, n: Date.now() })}
                    className="grid w-full grid-cols-[4.5rem_minmax(0,1fr)] gap-2 px-3 py-1 text-left hover:bg-ground"
                  >
                    <span className={f.severity === "error" ? "text-urgent" : "text-watch"}>
                      {f.line}:{f.column}
                    </span>
                    <span>{f.sentence}</span>
                  </button>
                </li>
              ))}
            </ul>
          )}
        </div>
        <div className="flex min-h-0 min-w-0 flex-col">
          <Choice
            label="Beside the text"
            value={side}
            onChange={setSide}
            options={[
              { value: "page", name: "How it reads" },
              {
                value: "change",
                name: preview?.changes.length
                  ? `What it changes (${preview.changes.length})`
                  : "What it changes",
              },
            ]}
          />
          <div className="mt-2 min-h-0 flex-1 overflow-y-auto pr-2" tabIndex={0}>
            {side === "page" ? (
              sound ? (
                <div className={preview?.model ? "" : "opacity-60"}>
                  {!preview?.model && (
                    <p className="mb-3 text-muted">As it read when the text was last right.</p>
                  )}
                  <p className="mb-3">
                    <b className="text-base">{sound.title}</b>{" "}
                    <span className="font-mono text-muted">
                      {sound.name} {sound.version}
                    </span>
                  </p>
                  <ModelDoc model={sound} quiet />
                </div>
              ) : (
                <p className="text-muted">
                  {preview ? "Once the text is right, it is shown here as people will read it." : ""}
                </p>
              )
            ) : (
              preview && <Effect preview={preview} />
            )}
          </div>
        </div>
      </div>
    </div>
  );
}

function verdict(p: ModelPreview | undefined, wrong: number): string {
  if (!p) return "Checking…";
  switch (p.state) {
    case "wrong":
      return plural(wrong, "mistake");
    case "new":
      return "Sound, and new to the service";
    case "version":
      return `Sound; follows ${p.before}`;
    case "same":
      return `This is ${p.model?.version} as it is published`;
    default:
      return p.changes.some((c) => c.weight === "breaking")
        ? `Breaks what is in the field: it needs version ${p.needs}`
        : `${p.model?.version} is published already: it needs version ${p.needs}`;
  }
}

// Effect tells what publishing would do to the fleet.
function Effect({ preview: p }: { preview: ModelPreview }) {
  if (!p.model) return <p className="text-muted">Once the text is right, its changes are shown here.</p>;
  if (!p.before)
    return (
      <p className="text-muted">
        There is no {p.model.name} in the service yet, so nothing in the field changes.
      </p>
    );
  return (
    <div className="grid gap-4">
      {p.refused && <Trouble>{p.refused}</Trouble>}
      <p>
        {p.changes.length > 0 && (
          <>
            These changes call for version <b className="font-mono font-normal">{p.needs}</b> at least.{" "}
          </>
        )}
        <span className="text-muted">
          {plural(p.devices, "device")} of this model stay with their version until they are moved.
        </span>
      </p>
      <Changes changes={p.changes} none={`It says the same as ${p.before}.`} />
      {p.rules.length > 0 && (
        <div>
          <h3 className="font-semibold text-urgent">Rules that would not fit any more</h3>
          <ul>
            {p.rules.map((r) => (
              <li key={r} className="border-b border-line py-1.5">
                {r}
              </li>
            ))}
          </ul>
        </div>
      )}
    </div>
  );
}

// FromMessage makes a model of what a device sends.
function FromMessage({ onText }: { onText: (t: string) => void }) {
  const [name, setName] = useState("");
  const [message, setMessage] = useState("");
  const make = useMutation({
    mutationFn: () => ask(api.POST("/api/v1/models/from-message", { body: { name, message } })),
    onSuccess: (m) => onText(m.text),
  });
  return (
    <form
      className="max-w-3xl"
      onSubmit={(e) => {
        e.preventDefault();
        make.mutate();
      }}
    >
      <p className="pt-3 text-muted">
        <Link to="/models">Models</Link> ›
      </p>
      <h1 className="pt-1 text-[1.375rem] font-bold">Paste a message</h1>
      <p className="mt-1 text-muted">
        A property is made for each value in it: its type, and unit and decimals as the name and the number
        tell. You go on from there.
      </p>
      <label className="mt-4 block">
        Message
        <textarea
          autoFocus
          rows={9}
          spellCheck={false}
          value={message}
          onChange={(e) => setMessage(e.target.value)}
          placeholder='{"cask_temp":12.4,"pressure":101.2,"battery":3.31}'
          className="mt-1 block w-full rounded-[4px] border border-line bg-surface p-3 font-mono text-[0.8125rem]"
        />
      </label>
      <label className="mt-3 block">
        Name of the model
        <input
          value={name}
          onChange={(e) => setName(e.target.value)}
          placeholder="cask-lid"
          className="mt-1 block w-80 rounded-[4px] border border-line bg-surface px-3 py-1.5 font-mono"
        />
      </label>
      {make.error && (
        <div className="mt-3">
          <Trouble>{make.error.message}</Trouble>
        </div>
      )}
      <div className="mt-4">
        <Button primary type="submit" disabled={!name || !message || make.isPending}>
          Make a model
        </Button>
      </div>
    </form>
  );
}
