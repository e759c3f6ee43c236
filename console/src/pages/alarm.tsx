import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, ask, Refusal, type Alarm } from "../api/client";
import { useFleet } from "../api/live";
import { Commenting, Shelving, useActs } from "../components/alarm-acts";
import { Badge } from "../components/badge";
import { Button, Empty, Trouble } from "../components/parts";
import { Trace } from "../components/trace";
import { isAside, why } from "../lib/alarms";
import { absolute, ago, called, lasting, soon, words } from "../lib/format";
import { expectedGap, summarise, withGaps } from "../lib/history";
import { stacked } from "../lib/size";
import { useNow, useTitle } from "../lib/use";
import { Details, groupLink } from "./alarms";

const iso = (ms: number) => new Date(ms).toISOString();
const hour = 3600_000;

// AlarmPage is one alarm: what was measured around it, what to do, what was done, and
// what else was up at the same time.
export default function AlarmPage() {
  const { id = "" } = useParams();
  const { devices } = useFleet();
  const now = useNow();
  const alarm = useQuery({
    queryKey: ["alarm", id],
    retry: false,
    refetchInterval: 15_000,
    queryFn: () => ask(api.GET("/api/v1/alarms/{id}", { params: { path: { id } } })),
  });
  const told = useQuery({
    queryKey: ["journal", "alarm", id],
    queryFn: () => ask(api.GET("/api/v1/journal", { params: { query: { alarm: id, limit: 200 } } })),
  });
  useTitle(alarm.data ? words(alarm.data.rule) : "Alarm");
  const [asking, setAsking] = useState<"shelve" | "comment">();
  const act = useActs();
  const a = alarm.data;
  if (!a)
    return alarm.error instanceof Refusal && alarm.error.status === 404 ? (
      <Empty
        title="There is no such alarm"
        why="The address may be cut, or it is of a device that you do not see."
        next={
          <Link to="/alarms" className="text-press underline">
            The open alarms
          </Link>
        }
      />
    ) : alarm.error ? (
      <div className="py-4">
        <Trouble>{alarm.error.message}</Trouble>
      </div>
    ) : (
      <p className="py-6 text-muted">Loading…</p>
    );
  const device = devices.get(a.device);
  const reason = why(a, soon);
  const subject = a.device || a.group?.split("=").slice(1).join("=") || "";
  return (
    <article className="pb-6">
      <p className="pt-3.5 text-muted">
        <Link to="/alarms">Alarms</Link> › <Link to={`/rules/${a.rule}`}>{words(a.rule)}</Link>
      </p>
      <div className="flex flex-wrap items-start gap-x-4 gap-y-2 border-b border-line pt-1 pb-3">
        <span className="pt-0.5">
          <Badge priority={a.priority} waiting={a.state === "unacknowledged"} size={26} />
        </span>
        <div className="min-w-0 flex-1">
          <h1 className="text-[1.375rem] leading-tight font-bold">{a.message}</h1>
          <p className="pt-0.5">
            <b>{a.state}</b>
            {reason && ` ${reason}`}
            {a.state === "acknowledged" && a.acknowledged_by && ` by ${a.acknowledged_by}`}
            <span className="text-muted">
              {isAside(a) && (a.holds ? "; its condition holds" : "; its condition is gone")}
              {" · "}
              <Link
                to={a.device ? `/devices/${a.device}` : groupLink(a.group ?? "")}
                className="text-ink underline decoration-line underline-offset-2"
              >
                {device ? called(device) : subject}
              </Link>{" "}
              · raised <span title={absolute(a.raised_at)}>{ago(a.raised_at, now)}</span>
              {a.returned_at &&
                `, returned after ${lasting(Date.parse(a.returned_at) - Date.parse(a.raised_at))}`}
              {a.times > 1 && `, came up ${a.times} times`}
              {a.device && (
                <>
                  {" · "}
                  <Link
                    to={`/boards/made/device/${a.device}?asof=${a.raised_at}`}
                    className="text-ink underline decoration-line underline-offset-2"
                  >
                    as it was
                  </Link>
                </>
              )}
            </span>
          </p>
        </div>
        <div className="flex flex-wrap gap-2">
          {a.may_acknowledge && (
            <Button primary onClick={() => void act("acknowledge", [a.id])}>
              Acknowledge
            </Button>
          )}
          {a.may_act && a.state.startsWith("latched") && (
            <Button onClick={() => void act("reset", [a.id])}>Reset</Button>
          )}
          {a.may_act && a.shelved && <Button onClick={() => void act("unshelve", [a.id])}>Unshelve</Button>}
          {a.may_act && !a.shelved && a.state !== "normal" && (
            <Button onClick={() => setAsking("shelve")}>Shelve…</Button>
          )}
          {a.may_act && <Button onClick={() => setAsking("comment")}>Comment…</Button>}
        </div>
      </div>
      <div className="grid gap-x-8 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
        <div className="min-w-0">
          <Details alarm={a} device={device} />
          {a.device && a.metric && <Around alarm={a} now={now} />}
          <Others alarm={a} now={now} />
        </div>
        <section aria-label="What happened" className="min-w-0">
          <h2 className="pt-3 pb-1 font-semibold">What happened</h2>
          <ol className="border-t border-line">
            {(told.data ?? []).map((e) => (
              <li key={e.number} className="border-b border-line py-1.5">
                <p className="text-muted">
                  <span title={absolute(e.at)}>{ago(e.at, now)}</span>
                  {e.person && (
                    <>
                      {" "}
                      · <span className="text-ink">{e.person}</span>
                    </>
                  )}
                </p>
                <p
                  className={`break-words whitespace-pre-line ${e.kind === "alarm commented" ? "border-l-2 border-press pl-2" : ""}`}
                >
                  {e.text}
                </p>
              </li>
            ))}
          </ol>
          {told.data?.length === 0 && <p className="text-muted">The journal has nothing of it any more.</p>}
        </section>
      </div>
      {asking === "shelve" && <Shelving alarms={[a]} onClose={() => setAsking(undefined)} />}
      {asking === "comment" && <Commenting alarms={[a]} onClose={() => setAsking(undefined)} />}
    </article>
  );
}

// Around draws what was measured around an alarm, with the limit and the time for which
// it was raised.
function Around({ alarm: a, now }: { alarm: Alarm; now: number }) {
  const { devices } = useFleet();
  const device = devices.get(a.device);
  const raised = Date.parse(a.raised_at);
  const end = a.returned_at ? Date.parse(a.returned_at) : now;
  const part = Math.max((end - raised) / 2, hour);
  const minute = Math.floor(now / 60_000) * 60_000;
  const from = Math.floor((raised - 2 * part) / 60_000) * 60_000;
  const to = Math.min(Math.floor((end + part) / 60_000) * 60_000, minute + 60_000);
  const lines = useQuery({
    queryKey: ["lines", a.device, a.metric, from, to],
    placeholderData: (old) => old,
    queryFn: () =>
      ask(
        api.GET("/api/v1/query", {
          params: {
            query: {
              device: [a.device],
              metric: [a.metric ?? ""],
              span: `${iso(from)}..${iso(to)}`,
              steps: 360,
            },
          },
        }),
      ),
  });
  const line = lines.data?.lines[0];
  const data = withGaps(line?.steps ?? [], expectedGap(device?.interval ?? "1min", to - from));
  const m = device?.margins.find((x) => x.rule === a.rule);
  const limit = typeof a.limit === "number" ? a.limit : undefined;
  const unit = a.display ?? m?.display ?? "";
  if (lines.data && data.at.length === 0)
    return <p className="pt-3 text-muted">No reading of {a.metric} is kept of that time.</p>;
  return (
    <section aria-label="Around it" className="pt-3">
      <h2 className="pb-1 font-semibold">
        <span className="font-mono text-[0.8125rem]">{a.metric}</span>{" "}
        <span className="font-normal text-muted">{unit} around it</span>
      </h2>
      <Trace
        data={data}
        from={from / 1000}
        to={to / 1000}
        height={stacked(1, 480, 210)}
        limits={limit === undefined ? [] : [{ value: limit, upward: m?.upward ?? true, name: words(a.rule) }]}
        decimals={-1}
        unit={unit}
        alarms={[{ from: raised / 1000, to: end / 1000, priority: a.priority, often: a.times > 1 }]}
        summary={summarise(
          { name: a.metric ?? "", title: "", type: "number", decimals: -1 } as unknown as Parameters<
            typeof summarise
          >[0],
          data,
          from,
          to,
        )}
      />
      <p className="pt-1 text-muted">
        <Link
          to={`/devices/${a.device}/history?span=${encodeURIComponent(`${iso(from)}..${iso(to)}`)}`}
          className="text-press"
        >
          All its telemetry of that time
        </Link>
      </p>
    </section>
  );
}

// Others are earlier alarms of the same rule on the same device, and others within some
// minutes at the same site.
function Others({ alarm: a, now }: { alarm: Alarm; now: number }) {
  const { devices } = useFleet();
  const site = devices.get(a.device)?.labels.site;
  const earlier = useQuery({
    queryKey: ["alarms", "earlier", a.id],
    enabled: a.device !== "",
    queryFn: () =>
      ask(
        api.GET("/api/v1/alarms", {
          params: { query: { device: a.device, rule: a.rule, all: true, before: a.id, limit: 8 } },
        }),
      ),
  });
  const near = useQuery({
    queryKey: ["alarms", "near", a.id, site],
    enabled: Boolean(site),
    queryFn: () =>
      ask(
        api.GET("/api/v1/alarms", {
          params: { query: { where: `label.site == ${JSON.stringify(site)}`, all: true, limit: 300 } },
        }),
      ),
  });
  const minutes = 15;
  const within = (near.data ?? []).filter(
    (x) => x.id !== a.id && Math.abs(Date.parse(x.raised_at) - Date.parse(a.raised_at)) <= minutes * 60_000,
  );
  const list = (all: Alarm[], who: boolean) => (
    <ul className="border-t border-line">
      {all.map((x) => (
        <li key={x.id} className="flex items-center gap-2 border-b border-line py-1">
          <Badge priority={x.priority} />
          <Link to={`/alarms/${x.id}`} className="min-w-0 flex-1 truncate">
            {who && <span className="font-mono text-[0.8125rem]">{x.device} </span>}
            {x.message}
          </Link>
          <span className="text-muted" title={absolute(x.raised_at)}>
            {x.returned_at
              ? `for ${lasting(Date.parse(x.returned_at) - Date.parse(x.raised_at))}, `
              : x.state === "normal"
                ? ""
                : "open, "}
            {ago(x.raised_at, now)}
          </span>
        </li>
      ))}
    </ul>
  );
  return (
    <>
      {a.device && (
        <section aria-label="Earlier ones">
          <h2 className="pt-4 pb-1 font-semibold">Earlier ones of this rule on this device</h2>
          {earlier.data?.length ? (
            list(earlier.data, false)
          ) : (
            <p className="text-muted">{earlier.isPending ? "Loading…" : "There was none."}</p>
          )}
        </section>
      )}
      {site && (
        <section aria-label="At the same time">
          <h2 className="pt-4 pb-1 font-semibold">
            Others at {site} within {minutes} min
          </h2>
          {within.length ? (
            list(within, true)
          ) : (
            <p className="text-muted">{near.isPending ? "Loading…" : "There was none."}</p>
          )}
        </section>
      )}
    </>
  );
}
