import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState, type FormEvent } from "react";
import { api, ask, type Affordance, type Device, type GivenCommand, type Model } from "../api/client";
import { absolute, ago, lasting, words } from "../lib/format";
import { useMayOn } from "../lib/me";
import { brief, Expires, useCommandInput, waits } from "./command-input";
import { useTell } from "./notices";
import { Button, Trouble } from "./parts";

const shown = 5;

// Commands are what the device can be told to do, and what became of it.
export function Commands({
  device,
  model,
  now,
  only,
  title = "Commands",
}: {
  device: Device;
  model?: Model;
  now: number;
  only?: (name: string) => boolean; // those of them; their replies are shown whole
  title?: string;
}) {
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
  const actions = (model?.actions ?? []).filter((a) => !only || only(a.name));
  if (actions.length === 0) return null;
  const replies = (given.data ?? []).filter((c) => !only || only(c.name));
  const barred = device.status === "suspended" || device.status === "retired";
  return (
    <section aria-label="Commands">
      <h2 className="pt-6 pb-1.5 font-semibold">{title}</h2>
      <div className="flex flex-wrap gap-2 pb-2">
        {!may("operator") && (
          <p className="text-muted">
            An operator can give {words(actions[0].name)}
            {actions.length > 1 && " and others"}.
          </p>
        )}
        {(may("operator") ? actions : []).map((a) => (
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
      {replies.length > 0 && (
        <ul className="border-t border-line" aria-live="polite">
          {replies.slice(0, only ? 1 : undefined).map((c) => (
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
                {only && linesOf(c.output).length > 0 && (
                  <pre
                    tabIndex={0}
                    aria-label={`Reply to ${c.name}`}
                    className="mt-1 max-h-72 overflow-auto bg-surface px-2 py-1 font-mono text-[0.8125rem]"
                  >
                    {linesOf(c.output).join("\n")}
                  </pre>
                )}
              </div>
              {waits(c) && may("operator") ? (
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

// linesOf are the lines of text in a reply, in whichever of its fields they come.
function linesOf(output: unknown): string[] {
  const list = Array.isArray(output)
    ? output
    : output && typeof output === "object"
      ? Object.values(output).find(Array.isArray)
      : typeof output === "string"
        ? output.split("\n")
        : undefined;
  return (list ?? []).map((x: unknown) => (typeof x === "string" ? x : JSON.stringify(x)));
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
  const { fields, read } = useCommandInput(action);
  const [expires, setExpires] = useState("");
  const [wrong, setWrong] = useState("");
  const submit = (e: FormEvent) => {
    e.preventDefault();
    try {
      const input = read();
      setWrong("");
      send(input, expires || undefined, () => tell(`${device} was told to ${words(action.name)}`));
    } catch (err) {
      setWrong((err as Error).message);
    }
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
            {fields}
            <Expires value={expires} onChange={setExpires} />
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
