import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState, type FormEvent } from "react";
import { api, ask, type Setting, type Settings } from "../api/client";
import { say } from "../lib/format";
import { choicesOf, Field, fieldLook, rangeOf } from "./field";
import { useTell } from "./notices";
import { Button, Trouble } from "./parts";

type Change = { set?: Record<string, unknown>; unset?: string[]; until?: string };

// ends are when a value may end by itself.
const ends = [
  { key: "", name: "for good", at: () => undefined },
  { key: "1h", name: "for 1 h", at: () => later(1) },
  { key: "4h", name: "for 4 h", at: () => later(4) },
  { key: "24h", name: "for 24 h", at: () => later(24) },
  {
    key: "morning",
    name: "until tomorrow 06:00",
    at: () => {
      const d = new Date();
      d.setDate(d.getDate() + 1);
      d.setHours(6, 0, 0, 0);
      return d.toISOString();
    },
  },
];
const later = (hours: number) => new Date(Date.now() + hours * 3600_000).toISOString();

// read turns what stands in a field into a value of the setting's type.
function read(s: Setting, text: string): unknown {
  if (s.type === "number" || s.type === "integer")
    return text.trim() === "" ? text : Number(text.replace(",", "."));
  if (s.type === "boolean") return text === "true";
  return text;
}

// startOf is what a field begins with: of a secret nothing.
const startOf = (s: Setting) => (s.secret ? "" : String(s.intended ?? ""));

export function SettingsDialog({ settings, onClose }: { settings: Settings; onClose: () => void }) {
  const tell = useTell();
  const queries = useQueryClient();
  const [texts, setTexts] = useState<Record<string, string>>(() =>
    Object.fromEntries(settings.settings.map((s) => [s.name, startOf(s)])),
  );
  const [end, setEnd] = useState("");
  const send = useMutation({
    mutationFn: (c: Change) =>
      ask(api.POST("/api/v1/devices/{id}/settings", { params: { path: { id: settings.device } }, body: c })),
    onSuccess: (after) => queries.setQueryData(["settings", settings.device], after),
  });
  const changed = settings.settings.filter((s) => texts[s.name] !== startOf(s));
  const submit = (e: FormEvent) => {
    e.preventDefault();
    if (changed.length === 0) return onClose();
    // The way back: what was set on this device is set again, what was not is taken off.
    const undo: Change = {
      set: Object.fromEntries(
        changed.filter((s) => s.source === "override" && !s.secret).map((s) => [s.name, s.intended]),
      ),
      unset: changed.filter((s) => s.source !== "override").map((s) => s.name),
    };
    send.mutate(
      {
        set: Object.fromEntries(changed.map((s) => [s.name, read(s, texts[s.name])])),
        until: ends.find((e) => e.key === end)?.at(),
      },
      {
        onSuccess: () => {
          onClose();
          tell(
            `${changed.map((s) => `${s.name} is to be ${s.secret ? "another" : texts[s.name]} ${s.display ?? ""}`.trim()).join(", ")} on ${settings.device}`,
            {
              // What a secret was before, nobody knows any more.
              undo: changed.some((s) => s.secret && s.source === "override")
                ? undefined
                : () => send.mutate(undo, { onError: (err) => tell(err.message, { bad: true }) }),
            },
          );
        },
      },
    );
  };
  return (
    <Dialog.Root open onOpenChange={(open) => !open && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content className="fixed top-1/2 left-1/2 z-50 max-h-[90vh] w-[min(34rem,calc(100vw-2rem))] -translate-1/2 overflow-y-auto border border-line bg-surface p-5 shadow-lg">
          <Dialog.Title className="text-lg font-bold">Settings of {settings.device}</Dialog.Title>
          <Dialog.Description className="pb-3 text-muted">
            What you change is set on this device alone and sent to it. The device confirms it or says why
            not.
          </Dialog.Description>
          <form onSubmit={submit}>
            {settings.settings.map((s) => {
              const id = `setting-${s.name}`;
              const set = (v: string) => setTexts((t) => ({ ...t, [s.name]: v }));
              return (
                <div
                  key={s.name}
                  className="grid grid-cols-[minmax(0,1fr)_9rem] items-center gap-x-4 border-t border-line py-2"
                >
                  <label htmlFor={id}>
                    <span className="font-mono text-[0.8125rem]">{s.name}</span>
                    <span className="block text-muted">
                      {[s.title, rangeOf(s)].filter(Boolean).join(", ")}
                      {s.source === "override" && (
                        <>
                          {" "}
                          ·{" "}
                          <button
                            type="button"
                            className="text-press underline"
                            onClick={() =>
                              send.mutate(
                                { unset: [s.name] },
                                {
                                  onSuccess: () => {
                                    onClose();
                                    tell(`${s.name} follows its layers again`, {
                                      undo: s.secret
                                        ? undefined
                                        : () => send.mutate({ set: { [s.name]: s.intended } }),
                                    });
                                  },
                                },
                              )
                            }
                          >
                            take it off this device
                          </button>
                        </>
                      )}
                    </span>
                  </label>
                  <Field
                    id={id}
                    type={s.type}
                    value={texts[s.name]}
                    secret={s.secret}
                    choices={choicesOf(s.type, s.enum)}
                    onChange={set}
                  />
                </div>
              );
            })}
            <label className="flex items-center justify-end gap-2 border-t border-line py-2">
              What is changed holds
              <select value={end} onChange={(e) => setEnd(e.target.value)} className={`${fieldLook} !w-auto`}>
                {ends.map((e) => (
                  <option key={e.key} value={e.key}>
                    {e.name}
                  </option>
                ))}
              </select>
            </label>
            {send.error && <Trouble>{send.error.message}</Trouble>}
            <div className="flex items-center justify-end gap-3 pt-4">
              <span className="mr-auto text-muted">
                {changed.length > 0 &&
                  changed
                    .map((s) => `${s.name}: ${say(s.intended, s)} → ${s.secret ? "another" : texts[s.name]}`)
                    .join(", ")}
              </span>
              <Button onClick={onClose}>Cancel</Button>
              <Button primary type="submit" disabled={send.isPending || changed.length === 0}>
                Send to the device
              </Button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
