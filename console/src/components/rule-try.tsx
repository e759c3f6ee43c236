import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { api, ask, type Rule, type Schemas } from "../api/client";
import { useFleet } from "../api/live";
import { words } from "../lib/format";
import { Dialog } from "./dialog";
import { fieldLook } from "./field";
import { Trouble } from "./parts";

// Trying works a rule out for one device, with values that are typed in.
export function Trying({ rule, onClose }: { rule: Rule; onClose: () => void }) {
  const { devices } = useFleet();
  const of = [...devices.values()]
    .filter((d) => rule.models.includes(d.model))
    .sort((a, b) => a.id.localeCompare(b.id));
  const [device, setDevice] = useState(of[0]?.id ?? "");
  const [given, setGiven] = useState<Record<string, string>>({});
  const body = {
    source: rule.raise,
    device,
    given: Object.fromEntries(
      Object.entries(given)
        .filter(([, v]) => v.trim() !== "")
        .map(([k, v]) => [
          k,
          v === "true"
            ? true
            : v === "false"
              ? false
              : v.trim() !== "" && !Number.isNaN(Number(v))
                ? Number(v)
                : v,
        ]),
    ),
  };
  const tried = useQuery({
    queryKey: ["expression", "try", JSON.stringify(body)],
    enabled: device !== "",
    retry: false,
    placeholderData: (old) => old,
    queryFn: () => ask(api.POST("/api/v1/expressions/explain", { body })),
  });
  const part = tried.data?.part;
  const names = useMemo(() => leavesOf(part), [part]);
  return (
    <Dialog
      title={`Try ${words(rule.rule)}`}
      wide
      read
      verb="Close"
      act={async () => undefined}
      onClose={onClose}
    >
      <label className="flex items-center gap-3 pb-3">
        On
        <select
          value={device}
          onChange={(e) => setDevice(e.target.value)}
          className={`${fieldLook} !w-auto font-mono`}
        >
          {of.map((d) => (
            <option key={d.id}>{d.id}</option>
          ))}
        </select>
      </label>
      {device === "" && <p className="text-muted">There is no device of these models.</p>}
      <div className="grid gap-x-4 gap-y-2 sm:grid-cols-2">
        {names.map((n) => (
          <label key={n.text} className="flex items-center gap-2">
            <span className="min-w-0 flex-1 truncate font-mono text-[0.8125rem]">{n.text}</span>
            <input
              value={given[n.text] ?? ""}
              placeholder={n.value}
              onChange={(e) => setGiven({ ...given, [n.text]: e.target.value })}
              className={`${fieldLook} !w-36 text-right`}
            />
          </label>
        ))}
      </div>
      {tried.error && (
        <div className="pt-3">
          <Trouble>{tried.error.message}</Trouble>
        </div>
      )}
      {part && (
        <>
          <p className="pt-3 text-base">
            <b>
              {part.truth === "true"
                ? rule.on_delay && rule.on_delay !== "0s"
                  ? `It would be raised after ${rule.on_delay} of this.`
                  : "It would be raised."
                : part.truth === "false"
                  ? "It would not be raised."
                  : "It is not known, so nothing would change."}
            </b>
          </p>
          <ul className="mt-2 border-t border-line">
            <PartRow part={part} deep={0} />
          </ul>
        </>
      )}
    </Dialog>
  );
}

type Part = Schemas["Part"];

// leavesOf are the names in an expression, with what they are now.
function leavesOf(p?: Part): { text: string; value: string }[] {
  if (!p) return [];
  if (!p.parts?.length)
    return /^([a-z]+\.)?[a-z][a-z0-9_]*$/.test(p.text) ? [{ text: p.text, value: p.value }] : [];
  const all = p.parts.flatMap((x) => leavesOf(x));
  return all.filter((x, i) => all.findIndex((y) => y.text === x.text) === i);
}

function PartRow({ part: p, deep }: { part: Part; deep: number }) {
  return (
    <>
      <li
        className="grid grid-cols-[minmax(0,1fr)_auto] gap-x-4 border-b border-line py-1"
        style={{ paddingLeft: `${deep * 1.25}rem` }}
      >
        <code className="font-mono text-[0.8125rem] break-words">{p.text}</code>
        <span className={p.truth === "true" ? "font-semibold" : "text-muted"}>{p.truth ?? p.value}</span>
        {p.note && <span className="col-span-2 text-muted">{p.note}</span>}
      </li>
      {p.parts?.map((x, i) => (
        <PartRow key={i} part={x} deep={deep + 1} />
      ))}
    </>
  );
}
