import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Alarm } from "../api/client";
import { plural } from "../lib/format";
import { Dialog, Entry } from "./dialog";
import { fieldLook } from "./field";
import { useTell } from "./notices";
import { Choice } from "./parts";

export type Verb = "acknowledge" | "shelve" | "unshelve" | "reset" | "comment";

const done: Record<Verb, string> = {
  acknowledge: "acknowledged",
  shelve: "shelved",
  unshelve: "taken off the shelf",
  reset: "reset",
  comment: "commented on",
};

// useActs does something about alarms, one or many, says what became of it, and lets
// shelving be undone. The list shows it at once; what the service says comes after it.
export function useActs() {
  const queries = useQueryClient();
  const tell = useTell();
  const act = async (verb: Verb, ids: string[], more?: { for?: string; text?: string }): Promise<boolean> => {
    if (ids.length === 0) return false;
    const changed = new Set(ids);
    if (verb === "acknowledge")
      queries.setQueriesData<Alarm[]>({ queryKey: ["alarms", "list"] }, (all) =>
        all?.map((a) =>
          changed.has(a.id)
            ? { ...a, state: a.state === "unacknowledged" ? "acknowledged" : a.state, may_acknowledge: false }
            : a,
        ),
      );
    try {
      const out = await ask(api.POST("/api/v1/alarm-acts", { body: { alarms: ids, act: verb, ...more } }));
      const failed = out.filter((x) => x.error);
      const n = out.length - failed.length;
      if (failed.length) tell(failed[0].error ?? "", { bad: true });
      if (n && (verb !== "acknowledge" || n > 1))
        tell(`${plural(n, "alarm")} ${done[verb]}${more?.for ? ` for ${more.for}` : ""}.`, {
          undo: verb === "shelve" ? () => void act("unshelve", ids) : undefined,
        });
      return failed.length === 0;
    } catch (e) {
      tell((e as Error).message, { bad: true });
      return false;
    } finally {
      void queries.invalidateQueries({ queryKey: ["alarms"] });
      void queries.invalidateQueries({ queryKey: ["alarm"] });
    }
  };
  return act;
}

const times = ["30min", "2h", "8h", "1d", "7d"];

// Shelving asks for how long alarms are shelved, and why.
export function Shelving({
  alarms,
  onClose,
  onDone,
}: {
  alarms: Alarm[];
  onClose: () => void;
  onDone?: () => void;
}) {
  const act = useActs();
  const [span, setSpan] = useState("2h");
  const [why, setWhy] = useState("");
  return (
    <Dialog
      title={alarms.length === 1 ? "Shelve this alarm" : `Shelve ${plural(alarms.length, "alarm")}`}
      about={
        <>
          {alarms.length === 1 && <span className="block text-ink">{alarms[0].message}</span>}
          Nobody is called until then, also if it returns and comes up again. It comes back by itself; what is
          true stays true.
        </>
      }
      verb={`Shelve for ${span}`}
      ready={/^(\d+(s|min|h|d))+$/.test(span)}
      act={async () => {
        await act(
          "shelve",
          alarms.map((a) => a.id),
          { for: span, text: why },
        );
        onDone?.();
      }}
      onClose={onClose}
    >
      <div className="flex flex-wrap items-end gap-x-4 pb-3">
        <Choice
          label="For how long"
          value={times.includes(span) ? span : ""}
          onChange={setSpan}
          options={times.map((t) => ({ value: t, name: t.replace(/(\d)([a-z])/, "$1 $2") }))}
        />
        <label className="flex items-center gap-2 text-muted">
          or
          <input
            aria-label="Another time"
            value={span}
            onChange={(e) => setSpan(e.target.value)}
            className={`${fieldLook} w-24`}
          />
        </label>
      </div>
      <Entry label="Why" hint="for whoever comes next" id="shelve-why">
        <input
          id="shelve-why"
          value={why}
          maxLength={400}
          onChange={(e) => setWhy(e.target.value)}
          className={`${fieldLook} w-full`}
        />
      </Entry>
    </Dialog>
  );
}

// Commenting asks for a comment.
export function Commenting({ alarms, onClose }: { alarms: Alarm[]; onClose: () => void }) {
  const act = useActs();
  const [text, setText] = useState("");
  return (
    <Dialog
      title={alarms.length === 1 ? "Comment on this alarm" : `Comment on ${plural(alarms.length, "alarm")}`}
      about={alarms.length === 1 ? alarms[0].message : undefined}
      verb="Say it"
      ready={text.trim() !== ""}
      act={() =>
        act(
          "comment",
          alarms.map((a) => a.id),
          { text },
        )
      }
      onClose={onClose}
    >
      <Entry label="Comment" id="comment">
        <textarea
          id="comment"
          value={text}
          maxLength={2000}
          rows={4}
          onChange={(e) => setText(e.target.value)}
          className={`${fieldLook} w-full`}
        />
      </Entry>
    </Dialog>
  );
}
