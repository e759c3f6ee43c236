import { useQueries, useQuery } from "@tanstack/react-query";
import { memo, useMemo } from "react";
import { Link } from "react-router";
import { api, ask, type Device, type Margin, type Model } from "../api/client";
import { useDevices, useFleet } from "../api/live";
import { AsOf, AsWas, OpenThen, useAsOf } from "../components/as-of";
import { Causes } from "../components/causes";
import { Button, Choice, Command, Empty, Trouble } from "../components/parts";
import { headspaceOf } from "../components/legend";
import { Spark } from "../components/spark";
import { Vessel } from "../components/vessel";
import { useMatching, Where } from "../components/where";
import { calling } from "../lib/alarms";
import { called, clock, lasting, number, plural, rank, rate, say, soon, words } from "../lib/format";
import { conditionOf, exampleOf, labelKeys } from "../lib/example";
import { useMetricsOfEach, useMoment } from "../lib/moment";
import { byNeed } from "../lib/need";
import { useScreen } from "../lib/screen";
import { timesOf } from "../lib/history";
import { useNow, useParam, useTitle } from "../lib/use";
import { whenAsked } from "../lib/when-asked";
import { Activity } from "./fleet-activity";
import { List } from "./fleet-list";
import { Vessels } from "./fleet-vessels";

export function FleetPage() {
  useTitle("Fleet");
  const fleet = useFleet();
  const screen = useScreen();
  const [by, setBy] = useParam("by", "site");
  const [chosen, setView] = useParam("view", "vessels");
  const [asOf, setAsOf] = useAsOf();
  const { moment, pending: lookingBack, error: notThen } = useMoment(asOf, useMetricsOfEach(asOf > 0));
  const minute = Math.ceil(useNow(60_000) / 60_000) * 60_000;
  const view = asOf && chosen === "activity" ? "vessels" : chosen; // it is about a span that ends now
  const wide = view === "list" || view === "activity";
  const [only, setOnly] = useParam("health", "all");
  const [where, setWhere] = useParam("where", "");
  const { matching, pending, wrong } = useMatching(where);
  const live = useDevices();
  const devices = moment?.devices ?? live;
  const inUse = useMemo(() => [...devices.values()].filter((d) => d.status !== "retired"), [devices]);
  const shown = useMemo(() => {
    return inUse
      .filter((d) => only === "all" || d.health === only)
      .filter((d) => !matching || matching.has(d.id))
      .sort(byNeed);
  }, [inUse, only, matching]);
  const counts = useMemo(() => {
    const c: Record<string, number> = {};
    for (const d of inUse) if (d.health) c[d.health] = (c[d.health] ?? 0) + 1;
    return c;
  }, [inUse]);
  const sites = useMemo(() => new Set(inUse.map((d) => d.labels.site).filter(Boolean)).size, [inUse]);
  const labels = useMemo(() => labelKeys(inUse).filter((k) => k !== "site"), [inUse]);
  const groupings = [...new Set(["site", "model", by, ...labels])];
  const example = useMemo(() => exampleOf(inUse), [inUse]);
  const raised = fleet.service?.groups;

  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 py-3.5">
        <h1 className="text-[1.375rem] font-bold">Fleet</h1>
        <p className="text-muted">
          {shown.length < inUse.length && (
            <>
              <b className="text-ink">{shown.length}</b> of{" "}
            </>
          )}
          <b className="text-ink">{number(inUse.length)}</b> devices
          {sites > 0 && ` at ${plural(sites, "site")}`}
        </p>
        {!screen && (
          <>
            <Choice
              label="Health"
              value={only}
              onChange={setOnly}
              options={["all", "dark", "poor", "watch", "awaited", "sound"].map((h) => ({
                value: h,
                name: h === "all" ? "all" : `${number(counts[h] ?? 0)} ${h}`,
              }))}
            />
            <div className="ml-auto flex flex-wrap items-center gap-3">
              {view !== "activity" && (
                <label className="text-muted">
                  by{" "}
                  <select
                    value={by}
                    onChange={(e) => setBy(e.target.value)}
                    className="rounded-[4px] border border-line bg-surface px-1.5 py-1 text-ink"
                  >
                    {groupings.map((g) => (
                      <option key={g}>{g}</option>
                    ))}
                  </select>
                </label>
              )}
              <Choice
                label="View"
                value={view}
                onChange={setView}
                options={[
                  { value: "vessels", name: "Vessels" },
                  { value: "list", name: "List" },
                  { value: "map", name: "Map" },
                  ...(asOf ? [] : [{ value: "activity", name: "Activity" }]),
                ]}
              />
              <AsOf at={asOf} what="The fleet" onChange={setAsOf} />
            </div>
          </>
        )}
      </div>
      {asOf > 0 && <AsWas at={asOf} onChange={setAsOf} />}
      <div className="pb-3">
        <Where
          value={where}
          onChange={setWhere}
          label="Filter devices by a condition"
          placeholder={`Filter by a condition${example ? `, such as ${conditionOf(example)}` : ""}, or a word`}
        />
      </div>
      {notThen && asOf > 0 ? (
        <Trouble>{notThen.message}</Trouble>
      ) : lookingBack ? (
        <p className="py-8 text-muted">Looking back…</p>
      ) : (fleet.state === "connecting" && devices.size === 0) || pending ? (
        <p className="py-8 text-muted">
          Loading the fleet…{fleet.coming > 0 && ` ${number(fleet.coming)} devices have come`}
        </p>
      ) : inUse.length === 0 && asOf > 0 ? (
        <Empty
          title="There was no device then"
          why="None was onboarded by that moment, and none has readings that are as old."
          next={<Button onClick={() => setAsOf(0)}>Back to now</Button>}
        />
      ) : inUse.length === 0 ? (
        <Empty
          title="No device is onboarded yet"
          why="A device appears here as soon as it is onboarded, and shows its health from its first reading on."
          next={<Command>ullage device create ID --model MODEL</Command>}
        />
      ) : (
        <div
          className={`grid grid-cols-[minmax(0,1fr)] gap-8 ${wide ? "" : "lg:grid-cols-[minmax(0,1fr)_minmax(20rem,26rem)]"}`}
        >
          {wrong ? (
            <Empty
              title="The condition cannot be used"
              why={wrong.replace(/^where: /, "")}
              next={<Button onClick={() => setWhere("")}>Show all</Button>}
            />
          ) : shown.length === 0 ? (
            <Empty
              title="No device is like that"
              why={
                where
                  ? "The condition is true for none of them. Where a value is unknown or too old, a condition is neither true nor false."
                  : `None of them is ${only} now.`
              }
              next={
                <Button
                  onClick={() => {
                    if (where) setWhere("");
                    else setOnly("all");
                  }}
                >
                  Show all
                </Button>
              }
            />
          ) : view === "list" ? (
            <List devices={shown} />
          ) : view === "activity" ? (
            <Activity devices={shown} />
          ) : view === "map" ? (
            <div className="h-[max(24rem,calc(100vh-14.5rem))]">
              <FleetMap
                devices={shown}
                where={where}
                times={timesOf("24h", asOf || minute)}
                placing={!asOf && !screen}
              />
            </div>
          ) : (
            <Vessels devices={shown} by={by} raised={asOf ? undefined : raised} only={only} />
          )}
          {!wide && (
            <div className="max-lg:-order-1">
              {asOf > 0 ? (
                <>
                  <OpenThen at={asOf} devices={shown} />
                  <p className="pt-2 text-muted">
                    Headspace is worked out of now alone, so every vessel is drawn empty.
                  </p>
                </>
              ) : (
                <>
                  {!screen && !matching && <Causes />}
                  <Least devices={matching && !wrong ? shown : inUse} />
                </>
              )}
            </div>
          )}
        </div>
      )}
      {asOf === 0 && <Foot devices={inUse} />}
    </>
  );
}

// The map brings the shapes of the land, which nobody else needs.
const FleetMap = whenAsked(
  () => import("../components/fleet-map"),
  <p className="py-8 text-muted">Loading the map…</p>,
);

// alarmed is the rank of a device's worst open alarm under a rule, or under any.
const alarmed = (d: Device, rule?: string) =>
  Math.min(
    9,
    ...calling(d.alarms)
      .filter((a) => !rule || a.rule === rule)
      .map((a) => rank(a.priority)),
  );

// leastMargin is that of the worst rule: with the alarm of the highest priority,
// or else with the least headspace.
const leastMargin = (d: Device): Margin | undefined =>
  d.margins
    .filter((m) => m.known)
    .sort((a, b) => alarmed(d, a.rule) - alarmed(d, b.rule) || a.headspace - b.headspace)[0];

// directLimit is the limit of a metric itself; what an expression over it is
// compared with is no line in its chart.
const directLimit = (m?: Margin) => (m && m.of === m.metric ? m.limit : undefined);

// Least lists who gets to a limit next.
const Least = memo(function Least({ devices }: { devices: Device[] }) {
  const now = useNow(5000);
  const rows = useMemo(
    () =>
      devices
        .filter((d) => d.health === "dark" || (leastMargin(d) && d.headspace! < 0.85))
        .sort(
          (a, b) =>
            alarmed(a) - alarmed(b) ||
            (a.health === "dark" ? 0.05 : a.headspace!) - (b.health === "dark" ? 0.05 : b.headspace!),
        )
        .slice(0, 6),
    [devices],
  );
  const models = useQuery({
    queryKey: ["models"],
    queryFn: () => ask(api.GET("/api/v1/models")),
    staleTime: 60_000,
  });
  const histories = useQueries({
    queries: rows.map((d) => {
      const metric = leastMargin(d)?.metric ?? Object.keys(d.latest)[0] ?? "";
      return {
        queryKey: ["spark", d.id, metric],
        enabled: metric !== "",
        refetchInterval: 20_000,
        queryFn: () => {
          const to = new Date();
          const from = new Date(to.getTime() - 12 * 3600_000);
          return ask(
            api.GET("/api/v1/devices/{id}/history", {
              params: {
                path: { id: d.id },
                query: { metric, from: from.toISOString(), to: to.toISOString(), steps: 72 },
              },
            }),
          );
        },
      };
    }),
  });
  return (
    <aside aria-label="Least headspace" className="lg:border-l lg:border-line lg:pl-6">
      <h2 className="font-semibold">Least headspace</h2>
      <p className="pb-2 text-muted">who is nearest to a limit, over the last 12 h</p>
      {rows.length === 0 && (
        <p className="border-t border-line py-3 text-muted">Every device is far from its limits.</p>
      )}
      <ul>
        {rows.map((d, i) => (
          <li key={d.id}>
            <Link
              to={`/devices/${d.id}`}
              className="grid grid-cols-[2.25rem_minmax(0,1fr)_auto] items-center gap-x-3 border-t border-line py-2 hover:bg-surface"
            >
              <Vessel device={d} width={27} />
              <span className="min-w-0">
                <b className={`block truncate ${d.name ? "" : "font-mono text-[0.8125rem]"}`}>{called(d)}</b>
                <Nearness device={d} models={models.data} now={now} />
              </span>
              <Spark history={histories[i]?.data} limit={directLimit(leastMargin(d))} />
            </Link>
          </li>
        ))}
      </ul>
    </aside>
  );
});

function Nearness({ device, models, now }: { device: Device; models?: Model[]; now: number }) {
  const m = leastMargin(device);
  const p = models?.find((x) => x.name === device.model)?.properties.find((x) => x.name === m?.metric);
  if (device.health === "dark") {
    return (
      <span className="block text-muted">
        <b className="text-ink">
          silent for {device.last_at ? lasting(now - Date.parse(device.last_at)) : "ever"}
        </b>
        , expected every {device.interval}
      </span>
    );
  }
  if (!m) return null;
  const alarm = device.alarms.find((a) => a.rule === m.rule);
  const over = m.headspace === 0;
  return (
    <>
      <span className="block">
        <b>
          {m.of === m.metric ? words(m.metric) : m.of} {say(m.value, p)} {m.display}
        </b>
        <span className="text-muted">, limit {say(m.limit)}</span>
      </span>
      <span className="block text-muted" title={headspaceOf(m)}>
        {alarm
          ? `${over ? "over it, " : ""}${alarm.state} for ${lasting(now - Date.parse(alarm.raised_at))}`
          : over
            ? "over it now"
            : `headspace ${Math.round(m.headspace * 100)} %${m.to_limit ? `, at the limit about ${soon(m.to_limit.likely)}` : ""}`}
      </span>
    </>
  );
}

// Foot tells that the page lives, and how the fleet fares as a whole.
function Foot({ devices }: { devices: Device[] }) {
  const fleet = useFleet();
  const now = useNow();
  const journal = useQuery({
    queryKey: ["journal", "raised"],
    queryFn: () =>
      ask(api.GET("/api/v1/journal", { params: { query: { kind: "alarm raised", limit: 1000 } } })),
  });
  const hours = useMemo(() => {
    const bins = new Array<number>(24).fill(0);
    for (const e of journal.data ?? []) {
      const h = Math.floor((now - Date.parse(e.at)) / 3600_000);
      if (h >= 0 && h < 24) bins[23 - h]++;
    }
    return bins;
  }, [journal.data, now]);
  const total = hours.reduce((a, b) => a + b, 0);
  const most = Math.max(1, ...hours);
  const [applied, drifting, pending] = useMemo(
    () => [
      devices.filter((d) => d.revision > 0 && d.applied === d.revision && d.drifting.length === 0).length,
      devices.filter((d) => d.drifting.length > 0).length,
      devices.filter((d) => d.applied > 0 && d.applied !== d.revision).length,
    ],
    [devices],
  );
  return (
    <footer className="mt-6 flex flex-wrap items-center gap-x-9 gap-y-2 border-t border-line pt-3 text-muted">
      <span className="flex items-center gap-2">
        <span
          className={`inline-block size-2 rounded-full ${fleet.state === "live" ? "bg-press" : "bg-urgent"}`}
        />
        <span>
          {fleet.state === "live" ? "live" : "not live"}
          {fleet.service?.per_second !== undefined && (
            <>
              , readings <b className="text-ink">{rate(fleet.service.per_second)}</b>
            </>
          )}
        </span>
      </span>
      <span className="flex items-end gap-3">
        <span>
          last 24 h: <b className="text-ink">{total}</b> {total === 1 ? "alarm" : "alarms"} raised
        </span>
        <svg
          viewBox="0 0 240 24"
          width="240"
          height="24"
          role="img"
          aria-label={`Alarms raised in each of the last 24 hours: ${hours.join(", ")}`}
        >
          <line x1="0" x2="240" y1="23.5" y2="23.5" stroke="var(--line)" />
          {hours.map((n, i) => {
            const h = (n / most) * 20;
            return (
              n > 0 && (
                <rect
                  key={i}
                  x={i * 10 + 2}
                  y={23 - Math.max(h, 2)}
                  width="6"
                  height={Math.max(h, 2)}
                  fill="var(--ink)"
                />
              )
            );
          })}
        </svg>
      </span>
      <span>
        settings: <b className="text-ink">{number(applied)}</b> as intended,{" "}
        <b className="text-ink">{drifting}</b> refused or drifted
        {pending > 0 && (
          <>
            , <b className="text-ink">{pending}</b> on their way
          </>
        )}
      </span>
      <time className="ml-auto">{clock(now)}</time>
    </footer>
  );
}
