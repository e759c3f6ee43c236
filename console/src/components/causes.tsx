import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { Link } from "react-router";
import { api, ask, type Cause } from "../api/client";
import { absolute, ago, number, plural } from "../lib/format";
import { placePage } from "../lib/place";
import { useNow } from "../lib/use";
import { Badge } from "./badge";

const seenKey = "ullage-causes-seen";

// lookedAt are the causes that this browser had shown when the page was left last.
function lookedAt(): ReadonlySet<string> | undefined {
  try {
    const kept = localStorage.getItem(seenKey);
    return kept === null ? undefined : new Set(JSON.parse(kept) as string[]);
  } catch {
    return undefined;
  }
}

// whereOf leads to what a cause is about: its alarm, its only device, its hub, or the devices.
function leadsTo(c: Cause): string {
  if (c.alarm) return `/alarms/${c.alarm}`;
  if (c.kind === "hub" || c.devices.length === 1)
    return `/devices/${c.kind === "hub" ? c.id.slice("hub ".length) : c.devices[0]}`;
  if (c.kind === "site" && c.site) return placePage(c.site);
  return listOf(c);
}

// What shows in a list why devices are in it, beside what is always there.
const columnsOf: Partial<Record<Cause["kind"], string>> = {
  refused: "&cols=site,model,link,last,settings,health",
  drift: "&cols=site,model,link,last,settings,health",
};

const listOf = (c: Cause) =>
  `/?view=list${columnsOf[c.kind] ?? ""}&where=${encodeURIComponent(
    `device.id in (${c.devices
      .slice(0, 500)
      .map((d) => JSON.stringify(d))
      .join(", ")})`,
  )}`;

const most = 8;

// Causes are what needs somebody now, one line for each cause, however many devices it
// shows on.
export function Causes() {
  const now = useNow(5000);
  const all = useQuery({
    queryKey: ["causes"],
    refetchInterval: 5000,
    queryFn: () => ask(api.GET("/api/v1/causes")),
  });
  const [before] = useState(lookedAt);
  const [whole, setWhole] = useState(false);
  const list = useMemo(() => all.data ?? [], [all.data]);
  useEffect(() => {
    if (!all.data) return;
    const keep = () => localStorage.setItem(seenKey, JSON.stringify(all.data.map((c) => c.id).slice(0, 500)));
    window.addEventListener("pagehide", keep);
    return () => {
      window.removeEventListener("pagehide", keep);
      keep();
    };
  }, [all.data]);
  const fresh = before ? list.filter((c) => !before.has(c.id)).length : 0;
  return (
    <section aria-label="What needs somebody" className="pb-6">
      <h2 className="flex items-baseline justify-between gap-3 pb-1.5 font-semibold">
        <span>
          Needs somebody{" "}
          {list.length > 0 && <span className="font-normal text-muted">{number(list.length)}</span>}
        </span>
        {fresh > 0 && <span className="font-normal text-muted">{number(fresh)} since you last looked</span>}
      </h2>
      {all.isPending ? (
        <p className="text-muted">Loading…</p>
      ) : all.error ? (
        <p className="text-muted">{all.error.message}</p>
      ) : list.length === 0 ? (
        <p className="border-t border-line py-2 text-muted">Nothing needs anybody now.</p>
      ) : (
        <ol className="border-t border-line">
          {list.slice(0, whole ? undefined : most).map((c) => (
            <li key={c.id} data-cause={c.kind} className="flex gap-2.5 border-b border-line py-2">
              <span className="w-4 shrink-0 pt-0.5">
                {c.priority ? (
                  <Badge priority={c.priority} waiting={!c.acknowledged} />
                ) : (
                  <i aria-hidden className="ml-1 inline-block size-2 rounded-full border border-muted" />
                )}
              </span>
              <div className="min-w-0 flex-1">
                <p className="flex items-baseline justify-between gap-2">
                  <Link to={leadsTo(c)} className="min-w-0 hover:text-press">
                    {before && !before.has(c.id) && <b className="pr-1.5 text-press">new</b>}
                    {c.title}
                  </Link>
                  {!["headspace", "firmware", "clock", "other"].includes(c.kind) && (
                    <span className="whitespace-nowrap text-muted" title={absolute(c.since)}>
                      {ago(c.since, now)}
                    </span>
                  )}
                </p>
                <p className="text-[0.8125rem] text-muted">
                  {c.why}
                  {c.devices.length > 1 && (
                    <>
                      {c.why && " · "}
                      <Link to={listOf(c)} className="text-press underline">
                        {plural(c.devices.length, "device")}
                      </Link>
                    </>
                  )}
                  {c.by && c.by.length > 0 ? (
                    <>
                      {" "}
                      · {c.by.join(" and ")} {c.by.length === 1 ? "has" : "have"}{" "}
                      {c.acknowledged ? "it" : "a part of it"}
                    </>
                  ) : (
                    c.acknowledged && <> · somebody has it</>
                  )}
                </p>
                {c.do && <p className="text-[0.8125rem]">→ {c.do}</p>}
              </div>
            </li>
          ))}
        </ol>
      )}
      {list.length > most && (
        <button type="button" onClick={() => setWhole(!whole)} className="pt-1.5 text-press hover:underline">
          {whole ? "Show fewer" : `Show all ${number(list.length)}`}
        </button>
      )}
    </section>
  );
}
