import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState, type FormEvent } from "react";
import { api, ask, type Affordance, type Device, type GivenCommand, type Model } from "../api/client";
import { absolute, ago, lasting, say, words } from "../lib/format";
import { useMayOn } from "../lib/me";
import { choicesOf, Field, fieldLook, rangeOf } from "./field";
import { useTell } from "./notices";
import { Button, Trouble } from "./parts";

const shown = 5;

// Commands are what the device can be told to do, and what became of it.
export function Commands({ device, model, now }: { device: Device; model?: Model; now: number }) {
  const tell = useTell();
  const may = useMayOn(device.id);
  const queries = useQueryClient();
  const [asking, setAsking] = useState<Affordance>();
  const key = ["commands", device.id];
  const given = useQuery({
    queryKey: key,
    enabled: Boolean(model?.actions.length),
    queryFn: () =>
      ask(api.GET("/api/v1/commands", { params: { query: { device: device.id, limit: shown } } })),
  });
  const give = useMutation({
    mutationFn: (body: { name: string; input?: unknown; expires?: string }) =>
      ask(api.POST("/api/v1/devices/{id}/commands", { params: { path: { id: device.id } }, body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: key }),
  });
  const withdraw = useMutation({
    mutationFn: (id: string) =>
      ask(
        api.DELETE("/api/v1/devices/{id}/commands/{command}", {
          params: { path: { id: device.id, command: id } },
        }),
      ),
    onSettled: () => queries.invalidateQueries({ queryKey: key }),
    onError: (e) => tell(e.message, { bad: true }),
  });
  if (!model || model.actions.length === 0) return null;
  const barred = device.status === "suspended" || device.status === "retired";
  return (
    <section aria-label="Commands">
      <h2 className="pt-6 pb-1.5 font-semibold">Commands</h2>
      <div className="flex flex-wrap gap-2 pb-2">
        {!may("operator") && (
          <p className="text-muted">An operator can give {words(model.actions[0].name)} and others.</p>
        )}
        {(may("operator") ? model.actions : []).map((a) => (
          <Button
            key={a.name}
            disabled={barred || give.isPending}
            title={[a.description, a.data !== "none" && `Input: ${a.data}`].filter(Boolean).join(". ")}
            onClick={() =>
              a.example === undefined
                ? give.mutate({ name: a.name }, { onError: (e) => tell(e.message, { bad: true }) })
                : setAsking(a)
            }
          >
            {a.title ?? words(a.name)}
            {a.example !== undefined && "…"}
          </Button>
        ))}
      </div>
      {given.data && given.data.length > 0 && (
        <ul className="border-t border-line" aria-live="polite">
          {given.data.map((c) => (
            <li
              key={c.id}
              className="flex items-start gap-2 border-b border-line py-1.5"
              data-phase={c.phase}
            >
              <div className="min-w-0 flex-1">
                <span className="font-mono text-[0.8125rem]">{c.name}</span>{" "}
                <span className="text-muted">{brief(c.input)}</span>
                <span className="block text-[0.8125rem]">
                  <Outcome c={c} now={now} />
                </span>
              </div>
              {open(c) && may("operator") ? (
                <Button
                  onClick={() => withdraw.mutate(c.id)}
                  aria-label={`Withdraw ${c.name}`}
                  className="!px-2 !py-0.5"
                >
                  Withdraw
                </Button>
              ) : (
                <span
                  className="text-[0.8125rem] whitespace-nowrap text-muted"
                  title={`${absolute(c.at)}, by ${c.by}`}
                >
                  {ago(c.at, now)}
                </span>
              )}
            </li>
          ))}
        </ul>
      )}
      {asking && (
        <InputDialog
          device={device.id}
          action={asking}
          send={(input, expires, then) =>
            give.mutate(
              { name: asking.name, input, expires },
              {
                onSuccess: () => {
                  setAsking(undefined);
                  then();
                },
              },
            )
          }
          trouble={give.error?.message}
          busy={give.isPending}
          onClose={() => {
            give.reset();
            setAsking(undefined);
          }}
        />
      )}
    </section>
  );
}

const open = (c: GivenCommand) => c.phase === "waiting" || c.phase === "sent";

function brief(x: unknown): string {
  if (x === undefined || x === null) return "";
  if (typeof x !== "object" || Array.isArray(x)) return JSON.stringify(x);
  return Object.entries(x)
    .map(
      ([k, v]) =>
        `${words(k)} ${Array.isArray(v) ? v.join("; ") : typeof v === "object" ? JSON.stringify(v) : say(v)}`,
    )
    .join(", ");
}

function Outcome({ c, now }: { c: GivenCommand; now: number }) {
  switch (c.phase) {
    case "done":
      return (
        <span className="break-words">
          done in {took(c)}
          {c.output !== undefined && <>: {brief(c.output)}</>}
        </span>
      );
    case "failed":
      return <b className="text-watch">it could not: {c.error}</b>;
    case "expired":
      return <span className="text-watch">{c.sent_at ? "no reply came" : "it was never reached"}</span>;
    case "withdrawn":
      return <span className="text-muted">withdrawn</span>;
  }
  if (!c.expires) return <i className="text-muted">waits for its next contact</i>;
  const left = lasting(Math.max(0, Date.parse(c.expires) - now));
  return (
    <i className="text-muted">
      {c.phase === "sent" ? "handed over, no reply yet" : "on its way"}; given up in {left}
    </i>
  );
}

function took(c: GivenCommand): string {
  const ms = Date.parse(c.ended_at ?? c.at) - Date.parse(c.at);
  return ms < 10_000 ? `${(ms / 1000).toFixed(1)} s` : lasting(ms);
}

function InputDialog({
  device,
  action,
  send,
  trouble,
  busy,
  onClose,
}: {
  device: string;
  action: Affordance;
  send: (input: unknown, expires: string | undefined, then: () => void) => void;
  trouble?: string;
  busy: boolean;
  onClose: () => void;
}) {
  const tell = useTell();
  const fields = action.fields ?? [];
  const [texts, setTexts] = useState<Record<string, string>>(() =>
    Object.fromEntries(fields.map((f) => [f.name, String(f.default ?? "")])),
  );
  const [raw, setRaw] = useState(() => JSON.stringify(action.example, null, 2));
  const [expires, setExpires] = useState("");
  const [wrong, setWrong] = useState("");
  const submit = (e: FormEvent) => {
    e.preventDefault();
    let input: unknown;
    if (fields.length > 0) {
      const o: Record<string, unknown> = {};
      for (const f of fields) {
        const text = texts[f.name].trim();
        if (text === "") {
          if (!f.required) continue;
          setWrong(`${f.name} is needed.`);
          return;
        }
        o[f.name] =
          f.type === "boolean" ? text === "true" : f.type === "text" ? text : Number(text.replace(",", "."));
        if (typeof o[f.name] === "number" && Number.isNaN(o[f.name])) {
          setWrong(`${f.name} is "${text}"; it must be a number`);
          return;
        }
      }
      input = o;
    } else {
      try {
        input = JSON.parse(raw);
      } catch {
        setWrong("This is not JSON yet.");
        return;
      }
    }
    setWrong("");
    send(input, expires || undefined, () => tell(`${device} was told to ${words(action.name)}`));
  };
  return (
    <Dialog.Root open onOpenChange={(isOpen) => !isOpen && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content className="fixed top-1/2 left-1/2 z-50 max-h-[90vh] w-[min(30rem,calc(100vw-2rem))] -translate-1/2 overflow-y-auto border border-line bg-surface p-5 shadow-lg">
          <Dialog.Title className="text-lg font-bold">{action.title ?? words(action.name)}</Dialog.Title>
          <Dialog.Description className="pb-3 text-muted">
            {action.description ? `${action.description}. ` : ""}
            {device} does it once and replies.
          </Dialog.Description>
          <form onSubmit={submit}>
            {fields.map((f) => {
              const id = `input-${f.name}`;
              const set = (v: string) => setTexts((t) => ({ ...t, [f.name]: v }));
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
                    onChange={set}
                  />
                </div>
              );
            })}
            {fields.length === 0 && (
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
            )}
            <label className="grid grid-cols-[minmax(0,1fr)_9rem] items-center gap-x-4 border-t border-line py-2">
              <span>
                Given up
                <span className="block text-muted">if the device has not replied</span>
              </span>
              <select value={expires} onChange={(e) => setExpires(e.target.value)} className={fieldLook}>
                <option value="">after 1 min</option>
                <option value="10min">after 10 min</option>
                <option value="1h">after 1 h</option>
                <option value="next contact">1 min after it comes</option>
              </select>
            </label>
            {(wrong || trouble) && <Trouble>{wrong || trouble}</Trouble>}
            <div className="flex justify-end gap-3 pt-4">
              <Button onClick={onClose}>Cancel</Button>
              <Button primary type="submit" disabled={busy}>
                Send to the device
              </Button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
