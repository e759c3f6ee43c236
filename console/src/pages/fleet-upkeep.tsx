import { useQuery } from "@tanstack/react-query";
import { useMemo, type ReactNode } from "react";
import { Link } from "react-router";
import { api, ask, type Device, type Reserve } from "../api/client";
import { EmptyAbout, saidOf as said } from "../components/empty-about";
import { Empty, Trouble } from "../components/parts";
import { SortHead } from "../components/sort-head";
import { byWorth, SaveCsv, SortedTable } from "../components/sorted-table";
import { Vessel } from "../components/vessel";
import { download, table } from "../lib/csv";
import { called, number, plural, rem } from "../lib/format";
import { useNow, useParam } from "../lib/use";

const days = 180;
const day = 86_400_000;

type Told = NonNullable<ReturnType<typeof useUpkeep>["data"]>[number];
type Row = Told & { of: Device };

function useUpkeep() {
  return useQuery({
    queryKey: ["upkeep"],
    refetchInterval: 600_000,
    queryFn: () => ask(api.GET("/api/v1/upkeep", { params: { query: { days } } })),
  });
}

interface Column {
  key: string;
  name: string;
  title?: string;
  right?: boolean;
  wide?: boolean; // not on a phone
  worth: (r: Row) => number | string;
}

// What is not known comes last.
const end = (r: Row) => (r.battery?.likely ? Date.parse(r.battery.likely) : r.battery ? 9e15 : 9.1e15);

const columns: Column[] = [
  { key: "device", name: "device", worth: (r) => r.device },
  { key: "site", name: "site", wide: true, worth: (r) => r.site ?? "" },
  {
    key: "empty",
    name: "empty about",
    title: "When it gets to the limit of the rule that watches it",
    worth: end,
  },
  { key: "when", name: "", wide: true, worth: end },
  {
    key: "battery",
    name: "battery",
    title: "Mean of the newest day",
    right: true,
    worth: (r) => r.battery?.value ?? 9e15,
  },
  { key: "months", name: "its months", worth: (r) => -(r.battery?.per_month ?? -1) },
  {
    key: "loses",
    name: "a month",
    title: "What it loses in 30 days, as its trend has it",
    right: true,
    worth: (r) => -(r.battery?.per_month ?? -1),
  },
  {
    key: "signal",
    name: "signal",
    title: "Mean of the newest day",
    right: true,
    worth: (r) => r.signal?.value ?? 9e15,
  },
  { key: "heard", name: "its months", worth: (r) => r.signal?.low ?? 9e15 },
  {
    key: "low",
    name: "least",
    title: "The least reading of the last seven days",
    right: true,
    worth: (r) => r.signal?.low ?? 9e15,
  },
];

// Upkeep is what keeps devices going: what batteries have left and until when, and how well
// devices are heard.
export function Upkeep({ devices }: { devices: readonly Device[] }) {
  const found = useUpkeep();
  const [sort, setSort] = useParam("by-upkeep", "empty");
  const now = useNow(60_000);
  const down = sort.startsWith("-");
  const rows = useMemo(() => {
    const seen = new Map(devices.map((d) => [d.id, d]));
    const column = columns.find((c) => c.key === sort.replace("-", "")) ?? columns[2];
    const told = (found.data ?? []).flatMap((u): Row[] => {
      const of = seen.get(u.device);
      return of ? [{ ...u, of }] : [];
    });
    return byWorth(told, column.worth, down);
  }, [found.data, devices, sort, down]);
  const within = (ms: number) => rows.filter((r) => end(r) < now + ms).length;
  const soon = useMemo(() => spanOf(rows, now), [rows, now]);
  const save = () =>
    download(
      "upkeep.csv",
      "text/csv",
      table(
        [
          "device",
          "site",
          "model",
          "battery",
          "unit",
          "a_month",
          "limit",
          "rule",
          "empty_about",
          "early",
          "late",
          "replaced",
          "signal",
          "signal_unit",
          "signal_least",
          "note",
        ],
        rows.map((r) => [
          r.device,
          r.site ?? "",
          r.model,
          text(r.battery?.value),
          r.battery?.unit ?? "",
          text(r.battery?.per_month),
          text(r.battery?.limit),
          r.battery?.rule ?? "",
          r.battery?.likely ?? "",
          r.battery?.early ?? "",
          r.battery?.late ?? "",
          r.battery?.replaced ?? "",
          text(r.signal?.value),
          r.signal?.unit ?? "",
          text(r.signal?.low),
          r.battery?.note ?? "",
        ]),
      ),
    );
  if (found.error) return <Trouble>{found.error.message}</Trouble>;
  if (!found.data) return <p className="py-6 text-muted">Going through the days of every battery…</p>;
  if (rows.length === 0)
    return (
      <Empty
        title="No device tells of a battery or a signal"
        why="A model says with ullage:tells which of its metrics is one; one that is called battery, or is in dBm, is taken for one."
        next={
          <Link to="/documents/models" className="text-press underline">
            What a model says
          </Link>
        }
      />
    );
  return (
    <section aria-label="Batteries and signal">
      <div className="flex flex-wrap items-center gap-x-6 gap-y-2 pb-2">
        <p>
          <b>{plural(within(30 * day), "battery", "batteries")}</b>{" "}
          <span className="text-muted">empty within a month,</span> <b>{number(within(90 * day))}</b>{" "}
          <span className="text-muted">within three,</span> <b>{number(within(365 * day))}</b>{" "}
          <span className="text-muted">within a year</span>
        </p>
        <SaveCsv onSave={save} />
      </div>
      <SortedTable
        label="Batteries and signal as a table"
        rows={rows}
        heads={columns.map((c) =>
          c.key === "when" ? (
            <th key={c.key} scope="col" className="pr-6 font-normal max-sm:hidden">
              <Axis {...soon} />
            </th>
          ) : (
            <SortHead
              key={c.key}
              column={c}
              sort={sort}
              onSort={setSort}
              className={c.wide ? "max-sm:hidden" : ""}
            />
          ),
        )}
        row={(r) => (
          <tr key={r.device} className="border-b border-line">
            <Cell>
              <Link to={`/devices/${r.device}`} className="flex items-center gap-2 text-press">
                <Vessel device={r.of} width={14} badge={false} />
                {called(r.of)}
              </Link>
            </Cell>
            <Cell wide>
              <span className="text-muted">{r.site}</span>
            </Cell>
            <Cell>{r.battery && <EmptyAbout r={r.battery} now={now} />}</Cell>
            <Cell wide>{r.battery?.likely && <When r={r.battery} {...soon} />}</Cell>
            <Cell right>{r.battery && said(r.battery, r.battery.value)}</Cell>
            <Cell>{r.battery && <Days r={r.battery} limit={r.battery.limit} />}</Cell>
            <Cell right>
              {r.battery?.per_month ? (
                <span className="text-muted">−{said(r.battery, r.battery.per_month)}</span>
              ) : (
                ""
              )}
            </Cell>
            <Cell right>{r.signal && said(r.signal, r.signal.value)}</Cell>
            <Cell>{r.signal && <Days r={r.signal} />}</Cell>
            <Cell right>
              {r.signal && <span className="text-muted">{said(r.signal, r.signal.low)}</span>}
            </Cell>
          </tr>
        )}
      />
      <p className="max-w-3xl pt-3 text-muted">
        A battery is empty when the trend of its days, since it was last replaced or charged, gets to the
        limit of the rule that watches it. The bar is where that day lies with 95 %. There are eight days at
        least behind it.
      </p>
    </section>
  );
}

const text = (x?: number) => (x === undefined ? "" : String(Math.round(x * 1e4) / 1e4));

const Cell = ({ right, wide, children }: { right?: boolean; wide?: boolean; children: ReactNode }) => (
  <td
    className={`py-1 pr-6 whitespace-nowrap last:pr-0 ${right ? "text-right tabular-nums" : ""} ${wide ? "max-sm:hidden" : ""}`}
  >
    {children}
  </td>
);

const wide = 200;
const high = 26;

// Days are the means of days, a gap where there are none.
function Days({ r, limit }: { r: Reserve; limit?: number }) {
  const all = r.days ?? [];
  const known = all.filter((x) => x !== null);
  if (known.length === 0) return null;
  const top = Math.max(...known);
  let low = Math.min(...known);
  const room = Math.max(top - low, Math.abs(top) * 0.01);
  // The limit shows how far it is, where it is not so far that the way cannot be seen.
  const shown = limit !== undefined && limit > low - 4 * room;
  if (shown) low = Math.min(low, limit);
  const x = (i: number) => 2 + (i / Math.max(all.length - 1, 1)) * 116;
  const y = (v: number) => high - 3 - ((v - low) / Math.max(top - low, room)) * (high - 6);
  let path = "";
  all.forEach((v, i) => {
    if (v === null) return;
    const alone = (all[i - 1] ?? null) === null && (all[i + 1] ?? null) === null ? "h0" : "";
    path += `${(all[i - 1] ?? null) === null ? "M" : "L"}${x(i).toFixed(1)} ${y(v).toFixed(1)}${alone}`;
  });
  return (
    <svg
      viewBox={`0 0 120 ${high}`}
      style={{ width: rem(120), height: rem(high) }}
      role="img"
      aria-label={`${plural(all.length, "day")}, from ${said(r, known[0])} to ${said(r, known[known.length - 1])}`}
    >
      {shown && (
        <line x1="0" x2="120" y1={y(limit)} y2={y(limit)} stroke="var(--muted)" strokeDasharray="2 3" />
      )}
      <path d={path} fill="none" stroke="var(--series)" strokeWidth="1.4" strokeLinecap="round" />
    </svg>
  );
}

// spanOf is from now to when the most batteries that are empty in foreseeable time are: a
// quarter at least, a year and a half at most.
function spanOf(rows: readonly Row[], now: number) {
  const ends = rows.flatMap((r) =>
    r.battery?.likely ? [Date.parse(r.battery.late ?? r.battery.likely)] : [],
  );
  return { now, to: now + Math.min(548 * day, Math.max(90 * day, ...ends.map((e) => (e - now) * 1.05))) };
}

const at = (when: number, now: number, to: number) =>
  Math.min(1, Math.max(0, (when - now) / (to - now))) * wide;

// Axis names the months, or the quarters, of the column below.
function Axis({ now, to }: { now: number; to: number }) {
  const each = (to - now) / day < 200 ? 1 : (to - now) / day < 500 ? 3 : 12;
  const marks: Date[] = [];
  const d = new Date(now);
  for (
    let m = new Date(Date.UTC(d.getUTCFullYear(), d.getUTCMonth() + 1, 1));
    m.getTime() < to;
    m = new Date(Date.UTC(m.getUTCFullYear(), m.getUTCMonth() + 1, 1))
  )
    if (m.getUTCMonth() % each === 0) marks.push(m);
  return (
    <svg
      viewBox={`0 0 ${wide} 22`}
      style={{ width: rem(wide), height: rem(22) }}
      aria-hidden="true"
      className="overflow-visible"
    >
      {marks.map((m) => (
        <g key={m.getTime()}>
          <line
            x1={at(m.getTime(), now, to)}
            x2={at(m.getTime(), now, to)}
            y1="16"
            y2="22"
            stroke="var(--muted)"
          />
          <text x={at(m.getTime(), now, to)} y="12" fontSize="11" textAnchor="middle" fill="var(--muted)">
            {each === 12
              ? m.getUTCFullYear()
              : m.toLocaleDateString("en-GB", { month: "short", timeZone: "UTC" })}
          </text>
        </g>
      ))}
    </svg>
  );
}

// When is the day with its band on the axis.
function When({ r, now, to }: { r: Reserve; now: number; to: number }) {
  const [early, likely] = [Date.parse(r.early ?? r.likely!), Date.parse(r.likely!)];
  const late = r.late ? Date.parse(r.late) : to + day;
  const x = at(likely, now, to);
  const from = at(early, now, to);
  return (
    <svg
      viewBox={`0 0 ${wide} 14`}
      style={{ width: rem(wide), height: rem(14) }}
      aria-hidden="true"
      className="overflow-visible"
    >
      <line x1="0" x2={wide} y1="7" y2="7" stroke="var(--line)" />
      <rect x={from} width={Math.max(at(late, now, to) - from, 1)} y="3" height="8" fill="var(--probable)" />
      {likely > to ? (
        <path d={`M${wide - 4} 3l5 4l-5 4`} fill="none" stroke="var(--ink)" strokeWidth="1.5" />
      ) : (
        <circle cx={x} cy="7" r="3.5" fill="var(--ink)" />
      )}
    </svg>
  );
}
