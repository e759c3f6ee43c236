import { useState } from "react";
import { Link } from "react-router";
import type { Device } from "../api/client";
import { calling, waits } from "../lib/alarms";
import { absolute, ago, called, number, rank, words } from "../lib/format";
import { useNow, useParam } from "../lib/use";
import { Badge } from "./badge";
import { Dialog, Entry } from "./dialog";
import { fieldLook } from "./field";
import { Button } from "./parts";

const hour = 3600_000;

// useAsOf is the past moment that a page is looked at as of, in the address; 0 for now.
export function useAsOf(): [number, (at: number) => void] {
  const [asked, setAsked] = useParam("asof", "");
  return [Date.parse(asked) || 0, (at) => setAsked(at ? new Date(at).toISOString() : "")];
}

// AsOf asks for a past moment.
export function AsOf({ at, what, onChange }: { at: number; what: string; onChange: (at: number) => void }) {
  const [asking, setAsking] = useState(false);
  const [text, setText] = useState("");
  return (
    <>
      <Button
        onClick={() => {
          setText(typedTime(at || Date.now() - hour));
          setAsking(true);
        }}
      >
        As of…
      </Button>
      {asking && (
        <Dialog
          title="As it was"
          about={`${what} as of a past moment: the values, links, open alarms and labels of then.`}
          verb="Look back"
          ready={Date.parse(text) > 0}
          act={async () => {
            if (Date.parse(text) > Date.now())
              throw new Error("That is in the future; what was so is asked about.");
            onChange(Date.parse(text));
          }}
          onClose={() => setAsking(false)}
        >
          <Entry label="When" id="as-of">
            <input
              id="as-of"
              type="datetime-local"
              value={text}
              onChange={(e) => setText(e.target.value)}
              className={fieldLook}
            />
          </Entry>
        </Dialog>
      )}
    </>
  );
}

// typedTime writes a time as a field for it wants it, by the clock of this browser.
const typedTime = (ms: number) =>
  new Date(ms - new Date(ms).getTimezoneOffset() * 60_000).toISOString().slice(0, 16);

// AsWas says that a page shows a past moment, and leads to other ones and back.
export function AsWas({ at, onChange }: { at: number; onChange: (at: number) => void }) {
  const now = useNow(60_000);
  const step = (by: number, name: string) => (
    <button
      type="button"
      className="text-press underline disabled:text-muted disabled:no-underline"
      disabled={at + by > now}
      onClick={() => onChange(at + by)}
    >
      {name}
    </button>
  );
  return (
    <p
      role="status"
      className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-1 border-y border-line bg-surface px-3 py-2"
    >
      <span>
        As it was at <b>{absolute(new Date(at).toISOString())}</b>: values, links, alarms and labels of then.
      </span>
      <span className="flex gap-3 print:hidden">
        {step(-24 * hour, "a day earlier")}
        {step(-hour, "an hour earlier")}
        {step(hour, "an hour later")}
      </span>
      <Button onClick={() => onChange(0)} className="!px-2.5 !py-0.5 print:hidden">
        Back to now
      </Button>
    </p>
  );
}

// OpenThen lists the alarms that were open at a past moment.
export function OpenThen({ at, devices }: { at: number; devices: readonly Device[] }) {
  const open = devices
    .flatMap((d) => calling(d.alarms).map((a) => ({ a, d })))
    .sort((p, q) => rank(p.a.priority) - rank(q.a.priority) || p.a.raised_at.localeCompare(q.a.raised_at));
  const silent = devices.filter((d) => d.link === "silent");
  return (
    <section aria-label="Open then">
      <h2 className="pb-1.5 font-semibold">
        Open then <span className="font-normal text-muted">{number(open.length + silent.length)}</span>
      </h2>
      <ul className="border-t border-line">
        {open.length + silent.length === 0 && (
          <li className="py-2 text-muted">No alarm was open, and nobody was silent.</li>
        )}
        {open.slice(0, 50).map(({ a, d }) => (
          <li key={a.id} className="flex items-start gap-2.5 border-b border-line py-1.5">
            <Badge priority={a.priority} waiting={waits(a)} />
            <Link to={`/alarms/${a.id}`} className="min-w-0 flex-1 hover:text-press">
              {words(a.rule)}, {called(d)}
            </Link>
            <span className="whitespace-nowrap text-muted" title={absolute(a.raised_at)}>
              {ago(a.raised_at, at)}
            </span>
          </li>
        ))}
        {silent.slice(0, 50).map((d) => (
          <li key={d.id} className="flex items-start gap-2.5 border-b border-line py-1.5">
            <i aria-hidden className="mt-1.5 ml-1 inline-block size-2 rounded-full border border-muted" />
            <Link to={`/devices/${d.id}`} className="min-w-0 flex-1 hover:text-press">
              {called(d)} was silent
            </Link>
          </li>
        ))}
      </ul>
    </section>
  );
}
