import { Fragment } from "react";
import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { api, ask, type Store } from "../api/client";
import { useFleet } from "../api/live";
import { About } from "../components/about";
import { May, useMayAll, who } from "../components/may";
import { Choice, Command, Empty, Head, Trouble } from "../components/parts";
import { meQuery } from "../lib/me";
import { absolute, bytes, lasting, number, plural, rate } from "../lib/format";
import { written } from "../lib/prefer";
import { useNow, useParam, useTitle } from "../lib/use";

const ways = [
  { value: "model", name: "By model" },
  { value: "metric", name: "By metric" },
  { value: "device", name: "By device" },
] as const;
type Way = (typeof ways)[number]["value"];

// ServicePage tells how the service itself is: what its disk is filled with and
// for how long that goes on, and how to back it up.
export default function ServicePage() {
  useTitle("Service");
  const { service } = useFleet();
  const now = useNow();
  const [chosen, setChosen] = useParam("by", "model");
  const by: Way = ways.find((w) => w.value === chosen)?.value ?? "model";
  const ofAll = useMayAll("viewer");
  const { data: me } = useQuery(meQuery);
  const store = useQuery({
    queryKey: ["store", by],
    enabled: ofAll,
    refetchInterval: 60_000,
    placeholderData: (was: Store | undefined) => was,
    queryFn: () => ask(api.GET("/api/v1/store", { params: { query: { by } } })),
  });
  return (
    <>
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 py-3.5">
        <h1 className="text-[1.375rem] font-bold">Service</h1>
        <About document="running" what="running Ullage" />
        {service && (
          <p className="text-muted">
            Ullage {service.version}, up{" "}
            <span title={absolute(service.started_at)}>{lasting(now - Date.parse(service.started_at))}</span>
          </p>
        )}
      </div>
      <div className="grid gap-x-10 gap-y-8 border-t border-line pt-4 lg:grid-cols-[minmax(0,1fr)_27rem]">
        <section aria-labelledby="storage" className="min-w-0">
          {!ofAll && me && (
            <Empty
              title="What the store holds is about all devices"
              why={`You see some of them; ${who(me.owners)} can let you see more.`}
            />
          )}
          {store.error && <Trouble>{store.error.message}</Trouble>}
          {store.isLoading && <p className="text-muted">Looking through the store…</p>}
          {store.data && store.data.damage.length > 0 && <Damaged store={store.data} />}
          {store.data && <Storage store={store.data} now={now} />}
          {store.data && (
            <div className="mt-7">
              <div className="flex flex-wrap items-center justify-between gap-2 pb-2">
                <h2>
                  <b className="font-semibold">What takes up the room</b>{" "}
                  <span className="text-muted">readings and roll-ups together</span>
                </h2>
                <Choice label="Summed up" options={ways} value={by} onChange={setChosen} />
              </div>
              <Shares store={store.data} />
            </div>
          )}
        </section>
        <div className="grid min-w-0 grid-cols-[minmax(0,1fr)] content-start gap-8">
          <section>
            <h2 className="pb-2 font-semibold">Now</h2>
            {service ? (
              <dl className="grid grid-cols-[auto_1fr] border-t border-line">
                <Fact name="Devices">{number(service.devices)}</Fact>
                <Fact name="MQTT sessions">{number(service.connected)}</Fact>
                {service.per_second !== undefined && <Fact name="Readings">{rate(service.per_second)}</Fact>}
                <Fact name="Messages refused">
                  {service.refused ? (
                    <Link to="/traffic?refused=yes" className="text-press hover:underline">
                      {number(service.refused)} since the start
                    </Link>
                  ) : (
                    "none since the start"
                  )}
                </Fact>
                <Fact name="MQTT at">
                  <code className="font-mono text-[0.8125rem]">{service.mqtt}</code>
                </Fact>
                <Fact name="HTTP at">
                  <code className="font-mono text-[0.8125rem]">{service.device_http}</code>
                </Fact>
                <Fact name="Console over TLS">
                  {service.console_tls === "" ? (
                    "off"
                  ) : (
                    <>
                      <code className="font-mono text-[0.8125rem]">{service.console_tls}</code>
                      <p className="mt-0.5 text-left text-xs text-muted">
                        Certificate SHA-256, for comparing with what a browser or the command line shows:{" "}
                        <code className="font-mono">
                          {service.certificate.split(":").map((pair, i) => (
                            <Fragment key={i}>
                              {i > 0 && (
                                <>
                                  :<wbr />
                                </>
                              )}
                              {pair}
                            </Fragment>
                          ))}
                        </code>
                      </p>
                    </>
                  )}
                </Fact>
              </dl>
            ) : (
              <p className="text-muted">Waiting for the service…</p>
            )}
          </section>
          <May role="owner">
            <section>
              <h2 className="pb-2 font-semibold">Backup</h2>
              <p className="pb-3 text-muted">
                Everything as it is at one moment, in one file, while the service goes on. Keep it as safe as
                the service: hashes of credentials are in it.
              </p>
              <a
                href="/api/v1/store/backup"
                download
                className="inline-block rounded-[4px] border border-line bg-surface px-3 py-1.5 font-semibold hover:border-muted"
              >
                Download a backup
              </a>
              <p className="pt-4 pb-1 text-muted">With every checksum looked at:</p>
              <Command>ullage store backup ullage.tar</Command>
              <p className="pt-3 pb-1 text-muted">And back, into a folder of its own:</p>
              <Command wrap>ullage store restore ullage.tar --data NEW</Command>
            </section>
          </May>
        </div>
      </div>
    </>
  );
}

function Fact({ name, children }: { name: string; children: ReactNode }) {
  return (
    <>
      <dt className="border-b border-line py-1.5 pr-6 text-muted">{name}</dt>
      <dd className="border-b border-line py-1.5 text-right">{children}</dd>
    </>
  );
}

const day = 24 * 3600_000;

// room says for how long what is left is enough.
function room(s: Store, now: number): { big: string; small: string; soon: boolean } {
  if (s.disk_free === undefined)
    return { big: "–", small: "how much the disk has left is not known", soon: false };
  const free = `${bytes(s.disk_free)} left`;
  if (s.growth_a_day === undefined)
    return { big: free, small: "for how long is known once a day of readings is in chunks", soon: false };
  if (!s.full_on) return { big: "for years", small: `${free}; no end in sight`, soon: false };
  const days = (Date.parse(s.full_on) - now) / day;
  const big =
    days < 60
      ? `for ${plural(Math.max(0, Math.floor(days)), "day")}`
      : days < 730
        ? `for ${Math.floor(days / 30.4)} months`
        : `for ${Math.floor(days / 365)} years`;
  const when = written(s.full_on, {
    day: "numeric",
    month: "long",
    year: "numeric",
  });
  return { big, small: `${free}; full about ${when}, if it goes on like this`, soon: days < 30 };
}

// Damaged says what in the data folder cannot be read.
function Damaged({ store: s }: { store: Store }) {
  const readings = s.damage.reduce((n, d) => n + (d.readings ?? 0), 0);
  return (
    <section
      aria-labelledby="damaged"
      className="mb-6 border border-line border-l-4 border-l-urgent bg-surface px-4 py-3"
    >
      <h2 id="damaged" className="font-semibold text-urgent">
        {plural(s.damage.length, "place")} in the data folder cannot be read
        {readings > 0 && `, up to ${number(readings)} readings are missing`}
      </h2>
      <ul className="max-h-60 overflow-y-auto py-2">
        {s.damage.map((d) => (
          <li key={d.file + d.place} className="py-0.5">
            <b className="font-semibold">{d.place}</b>{" "}
            <span className="text-muted">
              ({d.file}) {d.sentence}
            </span>
          </li>
        ))}
      </ul>
      <p className="pb-1 text-muted">
        The service goes on without it. Put a backup in place; or stop the service and take the damaged parts
        out:
      </p>
      <Command>ullage store check --repair --data FOLDER</Command>
    </section>
  );
}

function Storage({ store: s, now }: { store: Store; now: number }) {
  const r = room(s, now);
  const all = Math.max(1, s.file + s.records);
  const rest = Math.max(0, s.file - s.chunks - s.rollups - s.unsealed_bytes - s.free);
  const parts = [
    { name: "readings", size: s.chunks, look: "var(--ink)" },
    { name: "roll-ups", size: s.rollups, look: "color-mix(in srgb, var(--ink) 66%, var(--ground))" },
    {
      name: "not yet sealed",
      size: s.unsealed_bytes,
      look: "color-mix(in srgb, var(--ink) 42%, var(--ground))",
    },
    { name: "records", size: s.records, look: "color-mix(in srgb, var(--ink) 28%, var(--ground))" },
    { name: "indexes", size: rest, look: "color-mix(in srgb, var(--ink) 18%, var(--ground))" },
    { name: "free pages", size: s.free, look: "transparent" },
  ].filter((p) => p.size > 0);
  return (
    <>
      <div className="flex flex-wrap items-end justify-between gap-x-10 gap-y-3">
        <div>
          <h2 id="storage" className="text-muted">
            Room on the disk
          </h2>
          <p className={`text-[2rem] leading-tight font-bold ${r.soon ? "text-watch" : ""}`}>{r.big}</p>
          <p className="text-muted">{r.small}</p>
        </div>
        <dl className="flex gap-8">
          <Big name="readings" value={number(s.readings)} />
          <Big
            name="bytes a reading"
            value={s.bytes_a_reading === undefined ? "–" : number(s.bytes_a_reading, 2)}
            title={
              s.bytes_a_reading === undefined
                ? "Nothing is sealed into chunks yet"
                : "Data of chunks and roll-ups, for each reading in chunks"
            }
          />
          <Big
            name="growth a day"
            value={s.growth_a_day === undefined ? "not known yet" : bytes(s.growth_a_day)}
            title={
              s.growth_a_day === undefined
                ? "It takes a day of readings in chunks"
                : "Of chunks and roll-ups, over the last week"
            }
          />
        </dl>
      </div>
      <div
        className="mt-5 flex h-7 border border-line"
        role="img"
        aria-label={parts.map((p) => `${p.name} ${bytes(p.size)}`).join(", ")}
      >
        {parts.map((p) => (
          <span
            key={p.name}
            style={{ width: `${(p.size / all) * 100}%`, background: p.look }}
            title={p.name}
          />
        ))}
      </div>
      <ul className="flex flex-wrap gap-x-6 gap-y-1 pt-2">
        {parts.map((p) => (
          <li key={p.name} className="flex items-center gap-2">
            <span className="size-3 border border-line" style={{ background: p.look }} aria-hidden="true" />
            {p.name} <span className="text-muted">{bytes(p.size)}</span>
          </li>
        ))}
      </ul>
    </>
  );
}

function Big({ name, value, title }: { name: string; value: string; title?: string }) {
  return (
    <div className="flex flex-col-reverse text-right" title={title}>
      <dt className="text-muted">{name}</dt>
      <dd className="text-[1.375rem] leading-tight font-bold whitespace-nowrap">{value}</dd>
    </div>
  );
}

const columns = [
  { key: "name", name: "" },
  { key: "series", name: "Series", right: true },
  { key: "readings", name: "Readings", right: true },
  { key: "bytes_a_reading", name: "Bytes a reading", right: true },
  { key: "bytes", name: "Size", right: true },
] as const;
type Key = (typeof columns)[number]["key"];

function Shares({ store: s }: { store: Store }) {
  const [sort, setSort] = useParam("sort", "bytes");
  const key: Key = columns.find((c) => c.key === sort)?.key ?? "bytes";
  if (s.shares.length === 0)
    return (
      <Empty
        title="Nothing is stored yet"
        why="Readings are kept in memory and, one by one, on disk first. The oldest are sealed, which is packing them into chunks, after ten minutes without new ones or when there are a million."
      />
    );
  const rows = [...s.shares].sort((a, b) =>
    key === "name"
      ? a.name.localeCompare(b.name)
      : (b[key] ?? 0) - (a[key] ?? 0) || a.name.localeCompare(b.name),
  );
  const most = Math.max(1, ...rows.map((x) => x.bytes));
  return (
    <div className="overflow-x-auto border-t border-line" tabIndex={0}>
      <table className="w-full border-collapse">
        <thead>
          <tr className="border-b border-line">
            {columns.map((c) => (
              <Head
                key={c.key}
                right={"right" in c}
                sorted={key !== c.key ? undefined : c.key === "name" ? "ascending" : "descending"}
                onSort={() => setSort(c.key)}
              >
                {c.name || { model: "Model", metric: "Metric", device: "Device" }[s.by]}
              </Head>
            ))}
            <th className="w-1/4 py-1 text-left font-normal max-sm:hidden">
              <span className="sr-only">Share</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.map((x) => (
            <tr key={x.name} className="border-b border-line hover:bg-surface">
              <td className="py-1.5 pr-6 font-mono text-[0.8125rem]">
                {s.by === "metric" ? (
                  x.name
                ) : (
                  <Link
                    to={s.by === "model" ? `/models/${x.name}` : `/devices/${x.name}`}
                    className="hover:underline"
                  >
                    {x.name}
                  </Link>
                )}
              </td>
              <td className="py-1.5 pr-6 text-right">{number(x.series)}</td>
              <td className="py-1.5 pr-6 text-right">{number(x.readings)}</td>
              <td className="py-1.5 pr-6 text-right">
                {x.bytes_a_reading === undefined ? "–" : number(x.bytes_a_reading, 2)}
              </td>
              <td className="py-1.5 pr-6 text-right whitespace-nowrap">{bytes(x.bytes)}</td>
              <td className="max-sm:hidden">
                <span className="block h-2.5 bg-muted" style={{ width: `${(x.bytes / most) * 100}%` }} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {s.left_out ? (
        <p className="py-2 text-muted">
          and {number(s.left_out)} smaller ones with {bytes(s.share_of_rest ?? 0)} together
        </p>
      ) : null}
    </div>
  );
}
