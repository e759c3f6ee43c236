import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, ask, listed, Refusal, tagged, type Activity, type Device, type Site } from "../api/client";
import { useFleet } from "../api/live";
import { About } from "../components/about";
import { Badge } from "../components/badge";
import { Dialog } from "../components/dialog";
import { useTell } from "../components/notices";
import { Button, Command, Empty, Trouble } from "../components/parts";
import { middle, PlanPicture, type Places } from "../components/plan";
import { SiteDialog } from "../components/site-dialog";
import { Things, type Column } from "../components/things";
import { Vessel } from "../components/vessel";
import { calling, waits } from "../lib/alarms";
import { absolute, ago, called, number, plural, rank, words } from "../lib/format";
import { byNeed } from "../lib/need";
import { useNow, useParam, useTitle } from "../lib/use";
import { placePage, useSite } from "../lib/place";
import { May, useMayAll, useUnseen } from "../components/may";

const condition = (name: string) => `label.site == ${JSON.stringify(name)}`;
const position = (s: Site) =>
  s.latitude === undefined || s.longitude === undefined
    ? ""
    : `${Math.abs(s.latitude).toFixed(3)}° ${s.latitude < 0 ? "S" : "N"}, ${Math.abs(s.longitude).toFixed(3)}° ${s.longitude < 0 ? "W" : "E"}`;

// worst is the most pressing open alarm of some devices.
const worst = (ds: Device[]) =>
  ds.flatMap((d) => calling(d.alarms)).sort((a, b) => rank(a.priority) - rank(b.priority))[0];

// useSites gives every site with its devices.
function useDevicesBySite() {
  const { devices } = useFleet();
  return useMemo(() => {
    const out = new Map<string, Device[]>();
    for (const d of devices.values()) {
      const name = d.labels.site;
      if (name) out.set(name, [...(out.get(name) ?? []), d]);
    }
    return out;
  }, [devices]);
}

// timeThere is what the clock says at a site; empty where the browser does not
// know the zone.
function timeThere(zone: string | undefined, now: number): string {
  try {
    return zone
      ? new Date(now).toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit", timeZone: zone })
      : "";
  } catch {
    return "";
  }
}

export function SitesPage() {
  useTitle("Sites");
  const [where] = useParam("where", "");
  const [making, setMaking] = useState(false);
  const bySite = useDevicesBySite();
  const now = useNow(15_000);
  const list = useQuery({
    queryKey: ["sites", where],
    placeholderData: (old) => old,
    queryFn: () => listed(api.GET("/api/v1/sites", { params: { query: { where: where || undefined } } })),
  });
  const of = (s: Site) => bySite.get(s.site) ?? [];
  const alarmsOf = (s: Site) => of(s).flatMap((d) => calling(d.alarms));
  const columns: Column<Site>[] = [
    { key: "site", title: "Site", value: (s) => s.site },
    {
      key: "alarms",
      title: "Open alarms",
      right: true,
      value: (s) => alarmsOf(s).length,
      cell: (s) => <Alarms devices={of(s)} />,
    },
    { key: "devices", title: "Devices", right: true, value: (s) => of(s).length },
    {
      key: "dark",
      title: "Silent",
      right: true,
      value: (s) => of(s).filter((d) => d.link === "silent").length,
      cell: (s) => of(s).filter((d) => d.link === "silent").length || "–",
    },
    {
      key: "zone",
      title: "Time there",
      value: (s) => s.zone,
      cell: (s) => (
        <>
          {timeThere(s.zone, now)} <span className="text-muted">{s.zone ?? "that of the service"}</span>
        </>
      ),
    },
    { key: "position", title: "Position", value: position, rare: true },
    { key: "address", title: "Address", value: (s) => s.address },
    { key: "note", title: "Note", value: (s) => s.note, rare: true },
  ];
  return (
    <>
      <div className="flex gap-3 py-3.5">
        <h1 className="text-[1.375rem] font-bold">Sites</h1>
        <About document="sites" what="sites" />
      </div>
      <Things
        word="site"
        of="site"
        items={list.data?.items ?? []}
        total={list.data?.count}
        columns={columns}
        usual="site"
        name={(s) => s.site}
        to={(s) => placePage(s.site)}
        pending={list.isPending}
        error={list.error}
        retry={list.refetch}
        actions={
          <May role="engineer">
            <Button primary onClick={() => setMaking(true)}>
              New site
            </Button>
          </May>
        }
        card={(s) => (
          <>
            <span className="flex items-center gap-3">
              <b className="min-w-0 flex-1">{s.site}</b>
              {alarmsOf(s).length > 0 && <Alarms devices={of(s)} />}
            </span>
            <span className="text-muted">
              {plural(of(s).length, "device")} · {timeThere(s.zone, now)} {s.zone}
            </span>
          </>
        )}
        empty={
          <Empty
            title="There is no site yet"
            why="A site is a place where devices are: its time zone is theirs. A device belongs to the site that its label site names."
            next={<Command>ullage site save "High Orchard" zone=UTC</Command>}
          />
        }
      />
      {making && <SiteDialog onClose={() => setMaking(false)} />}
    </>
  );
}

function Alarms({ devices }: { devices: Device[] }) {
  const n = devices.reduce((sum, d) => sum + calling(d.alarms).length, 0);
  const first = worst(devices);
  return first ? (
    <span className="inline-flex h-5 items-center gap-1.5 font-semibold text-ink">
      <Badge priority={first.priority} /> {n}
    </span>
  ) : (
    <span className="text-muted">0</span>
  );
}

// mostRows is how many devices of a site its page lists.
const mostRows = 100;

// LinkDay is when a device was on line over the last day, and when not.
function LinkDay({ row, now }: { row?: Activity; now: number }) {
  if (!row) return <span />;
  const width = 24 * 3600_000;
  const x = (at: number) => Math.max(0, 1000 * (1 - (now - at) / width));
  const known = x(Date.parse(row.from));
  return (
    <svg
      viewBox="0 0 1000 10"
      preserveAspectRatio="none"
      className="h-2.5 w-full"
      role="img"
      aria-label={`${known > 500 ? "known for less than half a day, " : ""}on line for ${number(row.online, 0)} % of the last day${row.spells > 0 ? `, off line ${plural(row.spells, "time")}` : ""}`}
    >
      <rect y="4.5" width={known} height="1" className="fill-line" />
      <rect x={known} width={1000 - known} height="10" className="fill-muted/60" />
      {(row.off ?? []).map((o) => {
        const from = x(Date.parse(o.from));
        const to = o.to ? x(Date.parse(o.to)) : 1000;
        return (
          to > 0 && (
            <g key={o.from}>
              <rect x={from} width={Math.max(3, to - from)} height="10" className="fill-ground" />
              <rect x={from} width={Math.max(3, to - from)} y="7" height="3" className="fill-watch" />
            </g>
          )
        );
      })}
    </svg>
  );
}

export function SitePage() {
  const { name = "" } = useParams();
  useTitle(name);
  useSite(name);
  const [changing, setChanging] = useState(false);
  const [removing, setRemoving] = useState(false);
  const [gone, setGone] = useState(false);
  const [placing, setPlacing] = useState<Places>();
  const makes = useMayAll("engineer");
  const unseen = useUnseen();
  const tell = useTell();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const devices = useDevicesBySite().get(name) ?? [];
  const now = useNow(15_000);
  const site = useQuery({
    queryKey: ["sites", "one", name],
    enabled: !gone,
    retry: false,
    queryFn: () => tagged(api.GET("/api/v1/sites/{name}", { params: { path: { name } } })),
  });
  const links = useQuery({
    queryKey: ["activity", "24h", name],
    refetchInterval: 60_000,
    queryFn: () =>
      ask(
        api.GET("/api/v1/activity", { params: { query: { span: "24h", off: 50, where: condition(name) } } }),
      ),
  });
  if (site.isPending) return <p className="py-6 text-muted">Loading…</p>;
  const missing = site.error instanceof Refusal && site.error.status === 404;
  if (!site.data || (missing && !changing)) {
    return missing ? (
      <Empty
        title={`There is no site ${name}`}
        why={
          devices.length === 0
            ? unseen
            : `${plural(devices.length, "device")} ${devices.length === 1 ? "is" : "are"} labelled with it.`
        }
        next={
          makes ? (
            <Command>{`ullage site save ${JSON.stringify(name)} zone=Europe/Berlin`}</Command>
          ) : (
            <Link to="/sites" className="text-press underline">
              All sites
            </Link>
          )
        }
      />
    ) : (
      <Trouble>{site.error?.message}</Trouble>
    );
  }
  const s = site.data.value;
  const rows = [...devices].sort(byNeed);
  const alarms = devices
    .flatMap((d) => calling(d.alarms).map((a) => ({ a, d })))
    .sort((p, q) => rank(p.a.priority) - rank(q.a.priority) || q.a.raised_at.localeCompare(p.a.raised_at));
  const save = async (at: Places) => {
    try {
      await ask(
        api.PUT("/api/v1/sites/{name}", {
          params: { path: { name }, header: { "If-Match": site.data.tag } },
          body: { ...s, at: at as Site["at"] },
        }),
      );
      setPlacing(undefined);
      await queries.invalidateQueries({ queryKey: ["sites"] });
      tell(`The places on the plan of ${name} are saved`);
    } catch (e) {
      tell((e as Error).message, { bad: true });
    }
  };
  const remove = async () => {
    setGone(true); // what is not there any more is not asked for
    try {
      await ask(api.DELETE("/api/v1/sites/{name}", { params: { path: { name } } }));
    } catch (e) {
      setGone(false);
      throw e;
    }
    navigate("/sites");
    await queries.invalidateQueries({ queryKey: ["sites"] });
    tell(`${name} is removed`, {
      undo: () =>
        ask(api.PUT("/api/v1/sites/{name}", { params: { path: { name } }, body: s }))
          .then(() => queries.invalidateQueries({ queryKey: ["sites"] }))
          .catch((e: Error) => tell(e.message, { bad: true })),
    });
  };
  const fact = (title: string, value?: string) =>
    value && (
      <>
        <dt className="text-muted">{title}</dt>
        <dd>{value}</dd>
      </>
    );
  return (
    <>
      <p className="pt-3.5 text-muted">
        <Link to="/sites">Sites</Link> › {name}
      </p>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pt-1 pb-3">
        <h1 className="text-[1.375rem] font-bold">{name}</h1>
        <p className="flex items-center gap-1.5 text-muted">
          <Alarms devices={devices} /> open{" "}
          {plural(devices.flatMap((d) => calling(d.alarms)).length, "alarm").replace(/^\S+ /, "")}
        </p>
        <div className="flex gap-2 sm:ml-auto">
          <May role="engineer">
            <Button onClick={() => setRemoving(true)}>Remove</Button>
            <Button primary onClick={() => setChanging(true)}>
              Change
            </Button>
          </May>
        </div>
      </div>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-x-8 gap-y-5 lg:grid-cols-[minmax(0,11fr)_minmax(0,10fr)]">
        <section aria-label="The place" className="max-lg:order-3">
          {s.plan ? (
            <>
              <div className="border border-line bg-surface p-1">
                <PlanPicture
                  site={name}
                  devices={devices}
                  at={placing ?? s.at ?? {}}
                  width={() => "100%"}
                  version={site.dataUpdatedAt}
                  onPlace={
                    placing &&
                    ((id, move) => setPlacing((now) => ({ ...now, [id]: move(now?.[id] ?? middle) })))
                  }
                />
              </div>
              <May role="engineer">
                <p className="flex flex-wrap items-center gap-x-3 gap-y-1 pt-2">
                  {placing ? (
                    <>
                      <span className="text-muted">Drag each device to where it stands.</span>
                      <Button primary onClick={() => void save(placing)}>
                        Save places
                      </Button>
                      <Button onClick={() => setPlacing(undefined)}>Cancel</Button>
                    </>
                  ) : (
                    <button
                      type="button"
                      className="text-press underline"
                      onClick={() => setPlacing({ ...s.at })}
                    >
                      Place devices
                    </button>
                  )}
                </p>
              </May>
            </>
          ) : (
            <div>
              <p className="pb-2 text-muted">
                There is no plan of this site. An SVG, a PNG or a JPEG can be one.
              </p>
              <Command>{`ullage site plan ${JSON.stringify(name)} FILE`}</Command>
            </div>
          )}
          <dl className="grid grid-cols-[6rem_minmax(0,1fr)] gap-y-1 pt-3">
            {fact("Time there", s.zone && [timeThere(s.zone, now), s.zone].filter(Boolean).join(", "))}
            {!s.zone && fact("Time there", "that of the service")}
            {fact("Position", position(s))}
            {fact("Address", s.address)}
            {fact("Note", s.note)}
          </dl>
        </section>
        <div className="grid min-w-0 content-start gap-y-5 max-lg:contents">
          <section aria-label="Alarms" className="max-lg:order-1">
            <h2 className="pb-1 text-base font-semibold">Open alarms</h2>
            <ul className="border-t border-line">
              {alarms.length === 0 && <li className="py-1 text-muted">None.</li>}
              {alarms.slice(0, 20).map(({ a, d }) => (
                <li key={a.id} className="flex items-start gap-2.5 border-b border-line py-1.5">
                  <Badge priority={a.priority} waiting={waits(a)} />
                  <Link to={`/alarms/${a.id}`} className="min-w-0 flex-1 hover:text-press">
                    {a.message || `${words(a.rule)}, ${d.id}`}
                  </Link>
                  <span className="whitespace-nowrap text-muted" title={absolute(a.raised_at)}>
                    {ago(a.raised_at, now)}
                  </span>
                </li>
              ))}
              {alarms.length > 20 && (
                <li className="py-1 text-muted">and {plural(alarms.length - 20, "more", "more")}</li>
              )}
            </ul>
          </section>
          {s.call && s.call.length > 0 && (
            <section aria-label="People to call" className="max-lg:order-2">
              <h2 className="pb-1 text-base font-semibold">People to call</h2>
              <ul className="border-t border-line">
                {s.call.map((c) => (
                  <li
                    key={c.who + c.when}
                    className="flex flex-wrap items-baseline gap-x-4 border-b border-line py-1.5"
                  >
                    <b className="font-semibold">{c.who}</b>
                    <span className="text-muted">{c.when}</span>
                    {c.phone && (
                      <a
                        href={`tel:${c.phone.replace(/[^+\d]/g, "")}`}
                        className="ml-auto text-press underline"
                      >
                        {c.phone}
                      </a>
                    )}
                    {c.mail && (
                      <a
                        href={`mailto:${c.mail}`}
                        className={`text-press underline ${c.phone ? "" : "ml-auto"}`}
                      >
                        {c.mail}
                      </a>
                    )}
                  </li>
                ))}
              </ul>
            </section>
          )}
          <section aria-label="Devices" className="max-lg:order-4">
            <div className="flex items-baseline justify-between gap-3 pb-1">
              <h2 className="text-base font-semibold">
                <Link
                  to={`/?${new URLSearchParams({ where: condition(name) })}`}
                  className="text-press underline"
                >
                  {plural(devices.length, "device")}
                </Link>
              </h2>
              <span className="text-muted">on line over the last 24 h</span>
            </div>
            {devices.length === 0 && (
              <Empty
                title="No device is here"
                why={`A device is here when its label site is ${name}.`}
                next={<Command>{`ullage device label ID site=${JSON.stringify(name)}`}</Command>}
              />
            )}
            <ul className="border-t border-line">
              {rows.slice(0, mostRows).map((d) => (
                <li
                  key={d.id}
                  className="grid grid-cols-[minmax(0,1fr)_7rem] items-center gap-x-3 border-b border-line py-1 sm:grid-cols-[minmax(0,1fr)_minmax(0,1fr)_10rem]"
                >
                  <span className="flex min-w-0 items-center gap-3">
                    <Vessel device={d} width={15} badge={false} />
                    <Link
                      to={`/devices/${d.id}`}
                      className={`truncate hover:text-press ${d.name ? "" : "font-mono"}`}
                    >
                      {called(d)}
                    </Link>
                  </span>
                  <span
                    className={`truncate max-sm:order-3 max-sm:col-span-2 ${d.health === "poor" ? "text-poor" : d.health === "watch" ? "text-watch" : "text-muted"}`}
                    title={d.reasons.join("; ")}
                  >
                    {d.reasons[0] ?? d.health}
                  </span>
                  <LinkDay row={links.data?.find((l) => l.device === d.id)} now={now} />
                </li>
              ))}
            </ul>
            {rows.length > mostRows && (
              <p className="pt-1 text-muted">
                The {number(mostRows)} that need it most are shown; the link above leads to all.
              </p>
            )}
          </section>
        </div>
      </div>
      {changing && <SiteDialog read={site.data} onClose={() => setChanging(false)} />}
      {removing && (
        <Dialog
          title={`Remove ${name}?`}
          about={
            devices.length > 0
              ? `${plural(devices.length, "device")} keep their label and live in the time zone of the service from then on. The plan picture is lost.`
              : "No device is there. The plan picture is lost."
          }
          verb="Remove it"
          danger
          act={remove}
          onClose={() => setRemoving(false)}
        />
      )}
    </>
  );
}
