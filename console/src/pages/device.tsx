import { May, useUnseen, Why } from "../components/may";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useState, type ReactNode } from "react";
import { Link, NavLink, Route, Routes, useMatch, useParams } from "react-router";
import { api, ask, type Device, type Model, type Property, type Settings } from "../api/client";
import { useFleet } from "../api/live";
import { Acknowledge } from "../components/acknowledge";
import { Badge } from "../components/badge";
import { Doctor } from "../components/contact";
import { DeviceActions } from "../components/device-actions";
import { Commands } from "../components/commands";
import { BatteryEmpty } from "../components/empty-about";
import { Behind, Components, ofComponent } from "../components/inside";
import { Absent, Button, Choice, Command, Empty } from "../components/parts";
import { SettingWhy } from "../components/setting-why";
import { SettingsDialog } from "../components/settings-dialog";
import { usePoint } from "../components/trace-point";
import { Trace } from "../components/trace";
import { Vessel } from "../components/vessel";
import { headspaceOf } from "../components/legend";
import { TrafficList } from "../components/traffic-list";
import { ValueOrigin } from "../components/value-origin";
import { why } from "../lib/alarms";
import { absolute, ago, called, between, lasting, say, soon, words } from "../lib/format";
import { written } from "../lib/prefer";
import { useScreen } from "../lib/screen";
import { grown, stacked } from "../lib/size";
import { useSite } from "../lib/place";
import { endOf, expectedGap, limitsOf, newestOf, summarise, whereDataIs, withGaps } from "../lib/history";
import { useNarrow, useNow, useParam, useTitle } from "../lib/use";
import { DeviceLog } from "../components/device-log";
import { History } from "./device-history";
import { Rules } from "./device-rules";
import { meQuery, useMayOn, type Role } from "../lib/me";

const spans = [
  { value: "1h", name: "1 h", ms: 3600_000 },
  { value: "6h", name: "6 h", ms: 6 * 3600_000 },
  { value: "24h", name: "24 h", ms: 24 * 3600_000 },
  { value: "3d", name: "3 d", ms: 72 * 3600_000 },
  { value: "7d", name: "7 d", ms: 7 * 24 * 3600_000 },
  { value: "30d", name: "30 d", ms: 30 * 24 * 3600_000 },
];

export default function DevicePage() {
  const { id = "" } = useParams();
  const fleet = useFleet();
  const device = fleet.devices.get(id);
  useTitle(device ? called(device) : id);
  useSite(device?.labels.site);
  const screen = useScreen();
  const model = useQuery({
    queryKey: ["model", device?.model, device?.model_version],
    enabled: Boolean(device),
    queryFn: () =>
      ask(
        api.GET("/api/v1/models/{name}", {
          params: { path: { name: `${device!.model}@${device!.model_version}` } },
        }),
      ),
    staleTime: 60_000,
  });
  const [changing, setChanging] = useState(false);
  const [span] = useParam("span", "");
  const [component, setComponent] = useParam("component", "");
  const [now, history] = [useMatch("/devices/:id"), useMatch("/devices/:id/history")];
  const ofReadings = now !== null || history !== null;
  const may = useMayOn(device ? id : "");
  const me = useQuery(meQuery).data;
  const unseen = useUnseen();
  const settings = useSettings(device);
  if (!device) {
    if (fleet.state === "connecting") return <p className="py-8 text-muted">Loading…</p>;
    return (
      <Empty
        title={`There is no device ${id}`}
        why={me?.everywhere.viewer ? "It may have another id, or it was never onboarded." : unseen}
        next={
          me?.everywhere.engineer && /^[a-z0-9][a-z0-9-]{0,62}$/.test(id) ? (
            <Command>{`ullage device create ${id} --model MODEL`}</Command>
          ) : undefined
        }
      />
    );
  }
  // The tabs keep what is looked at: the span, and the component.
  const kept = new URLSearchParams({ ...(span && { span }), ...(component && { component }) });
  const to = (path: string) => ({ pathname: path, search: kept.toString() });
  const tab = ({ isActive }: { isActive: boolean }) =>
    `border-b-2 px-3 py-2 ${isActive ? "border-ink font-semibold" : "border-transparent text-muted hover:text-ink"}`;
  return (
    <>
      <p className="pt-3.5 text-muted">
        <Link to="/">Fleet</Link> ›{" "}
        {device.labels.site && (
          <Link to={`/sites/${encodeURIComponent(device.labels.site)}`}>{device.labels.site}</Link>
        )}
        {device.labels.site && " › "}
        {device.hub && (
          <>
            <Link to={`/devices/${device.hub}`}>
              {called(fleet.devices.get(device.hub) ?? { id: device.hub })}
            </Link>{" "}
            ›{" "}
          </>
        )}
        {called(device)}
      </p>
      <div className="flex flex-wrap items-center gap-4 pt-2">
        <Vessel device={device} width={40} />
        <div className="min-w-0 flex-1 max-sm:basis-64">
          <h1 className="text-[1.375rem] leading-tight font-bold">
            {called(device)}{" "}
            <span className="text-base font-normal text-muted">
              {device.name && (
                <>
                  <span className="font-mono">{device.id}</span> ·{" "}
                </>
              )}
              <Link to={`/models/${device.model}?version=${device.model_version}`}>
                {device.model} {device.model_version}
              </Link>
              {device.reported_version && (
                <span className="text-watch"> (says it was built for {device.reported_version})</span>
              )}
              {Object.entries(device.labels)
                .filter(([k]) => k !== "site" && k !== "owner")
                .map(([k, v]) => ` · ${k} ${v}`)}
            </span>
          </h1>
          <Verdict device={device} />
          <Why device={device.id} />
        </div>
        <div className="flex gap-3 max-sm:w-full print:hidden">
          <May role="engineer" device={device.id}>
            <DeviceActions device={device} />
          </May>
          {may("operator") && settings.data?.settings.length ? (
            <Button primary onClick={() => setChanging(true)}>
              Change a setting
            </Button>
          ) : null}
        </div>
      </div>
      {!screen && (
        <nav aria-label="Parts of this device" className="mt-2 flex overflow-x-auto border-b border-line">
          <NavLink end to={to(`/devices/${id}`)} className={tab}>
            Now
          </NavLink>
          <NavLink to={to(`/devices/${id}/history`)} className={tab}>
            History
          </NavLink>
          <NavLink to={to(`/boards/made/device/${id}`)} className={tab}>
            Board
          </NavLink>
          <NavLink to={`/devices/${id}/rules`} className={tab}>
            Rules
          </NavLink>
          <NavLink to={`/devices/${id}/traffic`} className={tab}>
            Traffic
          </NavLink>
          <NavLink to={`/devices/${id}/log`} className={tab}>
            Log
          </NavLink>
          <NavLink to={`/devices/${id}/journal`} className={tab}>
            Journal
          </NavLink>
        </nav>
      )}
      {ofReadings && <Components device={device} chosen={component} onChoose={setComponent} />}
      <Routes>
        <Route
          index
          element={
            <Now
              device={device}
              model={model.data}
              component={component}
              settings={settings.data}
              onChange={() => setChanging(true)}
            />
          }
        />
        <Route
          path="history"
          element={<History device={device} model={model.data} component={component} />}
        />
        <Route path="rules" element={<Rules device={device} />} />
        <Route path="traffic" element={<TrafficList device={id} className="pt-4" />} />
        <Route path="log" element={<LogTab device={device} model={model.data} />} />
        <Route path="journal" element={<Journal id={id} />} />
        <Route
          path="*"
          element={<Absent why="there is no such page of a device" to={`/devices/${id}`} all={`${id} now`} />}
        />
      </Routes>
      {changing && settings.data && (
        <SettingsDialog settings={settings.data} onClose={() => setChanging(false)} />
      )}
    </>
  );
}

// useSettings asks again whenever the live stream tells of a change.
function useSettings(device?: Device) {
  const queries = useQueryClient();
  const id = device?.id ?? "";
  const mark = device && [device.revision, device.applied, device.drifting.join()].join("/");
  useEffect(() => {
    queries.invalidateQueries({ queryKey: ["settings", id] });
  }, [queries, id, mark]);
  return useQuery({
    queryKey: ["settings", id],
    enabled: id !== "",
    queryFn: () => ask(api.GET("/api/v1/devices/{id}/settings", { params: { path: { id } } })),
  });
}

function Verdict({ device }: { device: Device }) {
  const now = useNow();
  const colour = device.health === "poor" ? "text-poor" : device.health === "watch" ? "text-watch" : "";
  const speaks = device.attributes.firmware ? `, firmware ${device.attributes.firmware}` : "";
  return (
    <p className="text-muted">
      <b className={colour || "text-ink"}>{device.status === "active" ? device.health : device.status}</b>
      {device.reasons.length > 0 && <span className="text-ink">: {device.reasons.join("; ")}</span>}.{" "}
      {device.link === "never" ? (
        "It has not been heard yet"
      ) : (
        <>
          {device.link[0].toUpperCase() + device.link.slice(1)}, last reading{" "}
          <span title={device.last_at && absolute(device.last_at)}>{ago(device.last_at, now)}</span>
        </>
      )}
      {speaks}
    </p>
  );
}

// pullsLog tells from the name of a command that it asks a device for its log.
const pullsLog = (name: string) => /(^|_)logs?(_|$)/.test(name);

// LogTab is what a device has written into its log, and what it says of it when it is asked.
function LogTab({ device, model }: { device: Device; model?: Model }) {
  const now = useNow(1000);
  return (
    <>
      <Commands device={device} model={model} now={now} only={pullsLog} title="Ask the device for it" />
      <DeviceLog device={device.id} />
    </>
  );
}

function Now({
  device,
  model,
  component,
  settings,
  onChange,
}: {
  device: Device;
  model?: Model;
  component: string;
  settings?: Settings;
  onChange: () => void;
}) {
  const may = useMayOn(device.id);
  const screen = useScreen();
  const [span, setSpan] = useParam("span", "24h");
  const narrow = useNarrow();
  const now = useNow(1000);
  const chosen = spans.find((s) => s.value === span) ?? spans[2];
  const of = ofComponent(model, component);
  const telemetry = model?.properties.filter((p) => p.role === "telemetry" && of(p.name)) ?? [];
  const heard = Object.keys(device.latest).length > 0;
  const newest = newestOf(device);
  const tall = stacked(telemetry.length, 260, 92);
  const end = endOf(chosen.ms, now);
  const { from, to, live } = whereDataIs({ from: end - chosen.ms, to: end, live: true }, newest);
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-x-6 lg:grid-cols-[minmax(0,1fr)_minmax(19rem,23rem)]">
      {narrow && <OpenAlarms device={device} now={now} of={of} />}
      <section aria-label="Readings">
        <div className="flex flex-wrap items-center gap-2 py-3 text-muted">
          {screen ? (
            `the last ${chosen.name}`
          ) : (
            <>
              Span
              <Choice label="Span" options={spans} value={chosen.value} onChange={setSpan} />
            </>
          )}
          <span className="sm:ml-auto">
            {!live && "Nothing since "}
            {written(live ? now : newest!, {
              weekday: "long",
              day: "numeric",
              month: "long",
              hour: "2-digit",
              minute: "2-digit",
            })}
          </span>
        </div>
        {!heard && model && (
          <Empty
            title="No reading has come yet"
            why="The device is onboarded and may connect. Its first message appears in the traffic, with the reason if it is refused."
            next={<Command>{`ullage traffic ${device.id}`}</Command>}
          />
        )}
        {heard &&
          telemetry.map((p, i) => (
            <Metric
              key={p.name}
              device={device}
              property={p}
              from={from}
              to={to}
              now={now}
              height={Math.max(tall, i === 0 ? grown(150) : 0)}
            />
          ))}
      </section>
      <aside className="lg:border-l lg:border-line lg:pl-6">
        {!narrow && <OpenAlarms device={device} now={now} of={of} />}
        <Behind hub={device.id} span={span} />
        {!screen && <Doctor device={device.id} />}
        <SettingsTable settings={settings} of={of} may={may} now={now} onChange={onChange} />
        {!screen && (
          <>
            <Commands device={device} model={model} now={now} only={component ? of : undefined} />
            <h2 className="pt-6 pb-1.5 font-semibold">
              <Link to="traffic">Traffic</Link>
            </h2>
            <TrafficList device={device.id} short />
          </>
        )}
      </aside>
    </div>
  );
}

function Metric({
  device,
  property: p,
  from,
  to,
  now,
  height,
}: {
  device: Device;
  property: Property;
  from: number;
  to: number;
  now: number;
  height: number;
}) {
  const latest = device.latest[p.name];
  const margin = device.margins
    .filter((m) => m.metric === p.name && m.of === m.metric)
    .sort((a, b) => a.headspace - b.headspace)[0];
  const numeric = p.type === "number" || p.type === "integer" || p.type === "boolean";
  const history = useQuery({
    queryKey: ["history", device.id, p.name, from, to],
    placeholderData: (old) => old,
    enabled: numeric,
    queryFn: () =>
      ask(
        api.GET("/api/v1/devices/{id}/history", {
          params: {
            path: { id: device.id },
            query: {
              metric: p.name,
              from: new Date(from).toISOString(),
              to: new Date(to).toISOString(),
              steps: 360,
            },
          },
        }),
      ),
  });
  const data = useMemo(
    () =>
      withGaps(
        (history.data?.steps ?? []).map((b) => ({ ...b, value: b.mean })),
        expectedGap(device.interval, to - from),
      ),
    [history.data, device.interval, to, from],
  );
  const { onPoint, point } = usePoint();
  const limits = useMemo(() => limitsOf(device.margins, p), [device.margins, p]);
  const marks = latest?.quality?.join(", ");
  return (
    <div className="grid grid-cols-[9.25rem_minmax(0,1fr)] border-b border-line py-2" data-metric={p.name}>
      <div className="pr-2">
        <h3 className="font-mono text-[0.8125rem] font-semibold">{p.name}</h3>
        <p className="whitespace-nowrap">
          <Origin device={device} metric={p.name} known={latest !== undefined}>
            <span className="text-[1.375rem] leading-tight font-bold">
              {latest ? say(latest.value, p) : "–"}
            </span>{" "}
            <span className="text-muted">{p.display}</span>
          </Origin>
        </p>
        <p className="text-muted" title={latest && absolute(latest.at)}>
          {marks ? (
            <b className="text-watch">{marks}</b>
          ) : p.usual ? (
            `usual ${p.usual[0]} – ${p.usual[1]}`
          ) : p.enum ? (
            p.enum.length + " states"
          ) : latest ? (
            ago(latest.at, now)
          ) : (
            ""
          )}
        </p>
        {margin?.known && (
          <p className="text-muted">
            <Link to="rules" className="hover:text-ink hover:underline" title={headspaceOf(margin)}>
              headspace {Math.round(margin.headspace * 100)} %
            </Link>
            {margin.to_limit && (
              <b className="block text-ink" title={between(margin.to_limit)}>
                limit probably {soon(margin.to_limit.likely)}
              </b>
            )}
          </p>
        )}
        {p.tells === "battery" && !margin?.to_limit && (
          <p className="text-muted">
            <BatteryEmpty device={device.id} />
          </p>
        )}
      </div>
      {!numeric ? (
        <p className="self-center text-muted">{latest ? `since ${ago(latest.at, now)}` : "never reported"}</p>
      ) : data.at.length === 0 && !history.isPending ? (
        <p className="self-center text-muted">
          No reading in this span{latest && <>; the newest is {ago(latest.at, now)}. Choose a longer span.</>}
        </p>
      ) : (
        <Trace
          data={data}
          from={from / 1000}
          to={to / 1000}
          height={height}
          limits={limits}
          decimals={p.decimals}
          unit={p.display ?? ""}
          step={p.type === "boolean"}
          summary={summarise(p, data, from, to)}
          onPoint={(at) => onPoint(at, { device: device.id, metric: p.name })}
        />
      )}
      {point}
    </div>
  );
}

function OpenAlarms({ device, now, of }: { device: Device; now: number; of: (metric: string) => boolean }) {
  const alarms = useQuery({
    queryKey: ["alarms", device.id, device.alarms.map((a) => a.id + a.state).join()],
    queryFn: () => ask(api.GET("/api/v1/alarms", { params: { query: { device: device.id } } })),
    placeholderData: (old) => old,
  });
  const open = (alarms.data ?? []).filter(
    (a) => device.alarms.some((x) => x.id === a.id) && of(a.metric ?? ""),
  );
  if (open.length === 0) return <h2 className="pt-3 pb-1 text-muted">No open alarm</h2>;
  return (
    <>
      <h2 className="pt-3 pb-1.5 font-semibold">{open.length === 1 ? "Open alarm" : "Open alarms"}</h2>
      {open.map((a) => (
        <article
          key={a.id}
          className="grid grid-cols-[1.5rem_minmax(0,1fr)] gap-x-2 border-t border-line py-2.5"
        >
          <Badge priority={a.priority} waiting={a.state === "unacknowledged"} size={19} />
          <div>
            <p>
              <b>{words(a.rule)}</b>, {a.state}
              {why(a, soon) && ` ${why(a, soon)}`}, for{" "}
              <span title={absolute(a.raised_at)}>{lasting(now - Date.parse(a.raised_at))}</span>
              {a.times > 1 && <>, {a.times} times</>}
            </p>
            <p>
              <Link to={`/alarms/${a.id}`}>{a.message}</Link>
            </p>
            {a.response && <p className="text-muted">{a.response}.</p>}
            <div className="mt-2">
              <Acknowledge alarm={a} />
            </div>
          </div>
        </article>
      ))}
    </>
  );
}

function SettingsTable({
  settings,
  of,
  now,
  may,
  onChange,
}: {
  settings?: Settings;
  of: (setting: string) => boolean;
  may: (needs: Role) => boolean;
  now: number;
  onChange: () => void;
}) {
  const shown = settings?.settings.filter((s) => of(s.name)) ?? [];
  if (!settings || shown.length === 0) return null;
  const state = {
    pending: "on its way to the device",
    applied: "confirmed by the device",
    refused: "partly refused by the device",
    drift: "the device is not as intended",
  }[settings.state];
  return (
    <>
      <h2 className="flex items-baseline gap-2 pt-6 pb-1.5">
        <b>Settings</b>
        <span className="text-muted">
          revision {settings.revision}, {state}
        </span>
      </h2>
      <table className="w-full border-collapse" data-testid="settings">
        <thead>
          <tr className="text-muted">
            <th scope="col" className="border-b border-line py-1 text-left font-normal">
              setting
            </th>
            <th scope="col" className="border-b border-line py-1 text-right font-normal">
              intended
            </th>
            <th scope="col" className="border-b border-line py-1 text-right font-normal">
              applied
            </th>
          </tr>
        </thead>
        <tbody>
          {shown.map((s) => (
            <tr
              key={s.name}
              className="border-b border-line align-top"
              data-setting={s.name}
              data-state={s.state}
            >
              <td className="py-1.5 pr-2">
                <button
                  type="button"
                  className="font-mono text-[0.8125rem] hover:text-press"
                  onClick={onChange}
                  disabled={!may("operator")}
                  aria-label={`Change ${s.name}`}
                >
                  {s.name}
                </button>
                <span className="block text-[0.8125rem] text-muted">
                  {s.kept_by_service && "kept by the service, "}
                  {s.overridden_by ? (
                    `set on this device by ${s.overridden_by}, ${ago(s.overridden_at, now)}${s.until ? `, until ${absolute(s.until)}` : ""}`
                  ) : (
                    <SettingWhy device={settings.device} setting={s.name} source={s.source} name={s.from} />
                  )}
                </span>
              </td>
              <td className="py-1.5 text-right whitespace-nowrap">
                {say(s.intended, s)}{" "}
                <span className="text-muted">{typeof s.intended === "number" && s.display}</span>
              </td>
              <td
                className={`py-1.5 pl-3 text-right ${s.state === "refused" || s.state === "drift" ? "font-semibold text-watch" : s.state === "pending" ? "text-muted italic" : ""}`}
              >
                <span className="whitespace-nowrap">
                  {s.state === "pending" ? "pending" : say(s.applied, s)}{" "}
                  {s.state !== "pending" && typeof s.applied === "number" && (
                    <span className="font-normal text-muted">{s.display}</span>
                  )}
                </span>
                {s.reason && <span className="block text-[0.8125rem] font-normal">refused: {s.reason}</span>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

function Journal({ id }: { id: string }) {
  const now = useNow(5000);
  const journal = useQuery({
    queryKey: ["journal", id],
    queryFn: () => ask(api.GET("/api/v1/journal", { params: { query: { device: id, limit: 200 } } })),
  });
  if (journal.isPending) return <p className="py-6 text-muted">Loading…</p>;
  if (!journal.data?.length) return <Empty title="Nothing has happened yet" />;
  return (
    <table className="mt-3 w-full border-collapse">
      <tbody>
        {journal.data.map((e) => (
          <tr key={e.number} className="border-b border-line align-top">
            <td className="py-1.5 pr-4 whitespace-nowrap text-muted" title={absolute(e.at)}>
              {ago(e.at, now)}
            </td>
            <td className="py-1.5 pr-4 whitespace-nowrap">{e.kind}</td>
            <td className="w-full py-1.5">{e.text}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

// Origin lets a value say where it is from, but for a screen, which has nobody to press it.
function Origin({
  device,
  metric,
  known,
  children,
}: {
  device: Device;
  metric: string;
  known: boolean;
  children: ReactNode;
}) {
  const screen = useScreen();
  if (screen || !known) return children;
  return (
    <ValueOrigin device={device.id} metric={metric}>
      {children}
    </ValueOrigin>
  );
}
