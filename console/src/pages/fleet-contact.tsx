import { useQuery } from "@tanstack/react-query";
import { useMemo, type ReactNode } from "react";
import { Link } from "react-router";
import { api, ask, type Device } from "../api/client";
import { fieldLook } from "../components/field";
import { Choice, Trouble } from "../components/parts";
import { SortHead } from "../components/sort-head";
import { byWorth, SaveCsv, SortedTable } from "../components/sorted-table";
import { Vessel } from "../components/vessel";
import { download, table } from "../lib/csv";
import { labelKeys } from "../lib/example";
import { ago, bytes, lasting, number, plural, soonest } from "../lib/format";
import { useNow, useParam } from "../lib/use";

const spans = [
  { value: "24h", name: "24 h" },
  { value: "7d", name: "7 d" },
  { value: "30d", name: "30 d" },
  { value: "90d", name: "90 d" },
];

type Told = NonNullable<ReturnType<typeof useActivity>["data"]>[number];

// Row is what is told of one device, or of those that have something in common.
interface Row extends Told {
  name: string;
  devices: Device[];
}

function useActivity(span: string) {
  return useQuery({
    queryKey: ["activity", span],
    refetchInterval: 60_000,
    queryFn: () => ask(api.GET("/api/v1/activity", { params: { query: { span } } })),
  });
}

interface Column {
  key: string;
  name: string;
  title?: string;
  right?: boolean;
  of?: "device"; // there is none of a group
  worth: (r: Row) => number | string;
  says?: (r: Row, now: number) => ReactNode;
  csv?: string;
}

const columns: Column[] = [
  { key: "device", name: "device", worth: (r) => r.name },
  { key: "site", name: "site", of: "device", worth: (r) => r.site ?? "" },
  { key: "online", name: "on line", worth: (r) => r.online, csv: "online_percent" },
  { key: "spells", name: "times off", right: true, worth: (r) => -r.spells, csv: "times_off" },
  {
    key: "longest",
    name: "longest",
    right: true,
    worth: (r) => -r.longest,
    says: (r) => (r.spells > 0 ? lasting(r.longest * 1000) : ""),
    csv: "longest_seconds",
  },
  {
    key: "last",
    name: "newest",
    title: "Newest reading",
    right: true,
    worth: (r) => r.last_at ?? "",
    says: (r, now) => (
      <span
        className="text-muted"
        title={r.first_at && `It was heard for the first time on ${soonest(r.first_at)}`}
      >
        {ago(r.last_at, now)}
      </span>
    ),
    csv: "newest_reading",
  },
  {
    key: "messages",
    name: "messages",
    title: "Both ways, in the span",
    right: true,
    worth: (r) => -r.messages,
  },
  {
    key: "monthly",
    name: "a month",
    title: "Bytes of messages in 30 days, if it goes on like that; known after six hours",
    right: true,
    worth: (r) => -r.monthly,
    says: (r) => (r.monthly > 0 ? bytes(r.monthly) : ""),
    csv: "bytes_a_month",
  },
  { key: "connects", name: "connects", title: "Sessions that began", right: true, worth: (r) => -r.connects },
  {
    key: "late",
    name: "late",
    title: "Readings that came more than five intervals, and five minutes, after they were taken",
    right: true,
    worth: (r) => -r.late,
  },
  {
    key: "refused",
    name: "refused",
    title: "Messages of which something was refused",
    right: true,
    worth: (r) => -r.refused,
  },
  { key: "model", name: "model", of: "device", worth: (r) => `${r.model} ${r.version}` },
  { key: "firmware", name: "firmware", of: "device", worth: (r) => r.firmware ?? "" },
];

// together are rows that have something in common, as one.
function together(name: string, rows: Row[]): Row {
  const sum = (f: (r: Row) => number) => rows.reduce((n, r) => n + f(r), 0);
  const newest = rows.map((r) => r.last_at ?? "").sort();
  const counted = rows.map((r) => r.counted ?? "").filter(Boolean);
  return {
    ...rows[0],
    name,
    devices: rows.flatMap((r) => r.devices),
    online: sum((r) => r.online) / rows.length,
    spells: sum((r) => r.spells),
    longest: Math.max(...rows.map((r) => r.longest)),
    first_at: rows
      .map((r) => r.first_at ?? "")
      .filter(Boolean)
      .sort()[0],
    last_at: newest.at(-1) || undefined,
    messages: sum((r) => r.messages),
    bytes: sum((r) => r.bytes),
    monthly: sum((r) => r.monthly),
    connects: sum((r) => r.connects),
    late: sum((r) => r.late),
    refused: sum((r) => r.refused),
    counted: counted.sort()[0],
  };
}

const partOf = (by: string, d: Device): string =>
  by === "model"
    ? `${d.model} ${d.model_version}`
    : by === "hub"
      ? (d.hub ?? "")
      : by === "all"
        ? "everything"
        : (d.labels[by] ?? "");

// Contact is how devices were in contact over a span, and what passed, the worst first.
export function Contact({ devices }: { devices: readonly Device[] }) {
  const [span, setSpan] = useParam("over", "30d");
  const [sort, setSort] = useParam("by-activity", "online");
  const [by, setBy] = useParam("each", "");
  const now = useNow(10_000);
  const found = useActivity(span);
  const down = sort.startsWith("-");
  const shown = useMemo(() => columns.filter((c) => by === "" || c.of !== "device"), [by]);
  const labels = useMemo(() => labelKeys(devices), [devices]);
  const rows = useMemo(() => {
    const seen = new Map(devices.map((d) => [d.id, d]));
    const column = shown.find((c) => c.key === sort.replace("-", "")) ?? columns[2];
    let out = (found.data ?? []).flatMap((r): Row[] => {
      const d = seen.get(r.device);
      return d ? [{ ...r, name: r.device, devices: [d] }] : [];
    });
    if (by !== "") {
      const parts = new Map<string, Row[]>();
      for (const r of out) {
        const part = partOf(by, r.devices[0]);
        parts.set(part, [...(parts.get(part) ?? []), r]);
      }
      out = [...parts].map(([name, rs]) => together(name, rs));
    }
    return byWorth(out, column.worth, down);
  }, [found.data, devices, sort, down, by, shown]);
  const since = rows
    .map((r) => r.counted ?? "")
    .filter(Boolean)
    .sort()[0];
  const asked = { "24h": 1, "7d": 7, "30d": 30, "90d": 90 }[span] ?? 0;
  const short = since && now - Date.parse(since) < asked * 86_400_000 - 3600_000;
  const save = () =>
    download(
      `activity-${span}.csv`,
      "text/csv",
      table(
        [...shown.map((c) => (c.key === "device" && by ? by : (c.csv ?? c.key))), "first_heard"],
        rows.map((r) => [
          ...shown.map((c) => {
            const v = c.worth(r);
            return typeof v === "number" ? String(Math.round(Math.abs(v) * 100) / 100) : v;
          }),
          r.first_at ?? "",
        ]),
      ),
    );
  return (
    <section aria-label="Contact">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pb-2">
        <Choice label="Span" options={spans} value={span} onChange={setSpan} />
        <label className="flex items-center gap-2 text-muted">
          each
          <select
            value={by}
            onChange={(e) => setBy(e.target.value)}
            className={`${fieldLook} !w-auto text-ink`}
            aria-label="A row for each"
          >
            <option value="">device</option>
            {["model", "hub", ...labels].map((l) => (
              <option key={l}>{l}</option>
            ))}
            <option value="all">the whole fleet</option>
          </select>
        </label>
        <span className="text-muted">
          the worst first{short && `; messages are counted since ${soonest(since)}`}
        </span>
        <SaveCsv onSave={save} />
      </div>
      {found.error ? (
        <Trouble>{found.error.message}</Trouble>
      ) : !found.data ? (
        <p className="py-6 text-muted">Adding up…</p>
      ) : rows.length === 0 ? (
        <p className="py-6 text-muted">No device is chosen.</p>
      ) : (
        <SortedTable
          label="Contact as a table"
          rows={rows}
          heads={shown.map((c) => (
            <SortHead
              key={c.key}
              column={c}
              name={c.key === "device" && by ? by : c.name}
              sort={sort}
              onSort={setSort}
            />
          ))}
          row={(r) => (
            <tr key={r.name} className="border-b border-line">
              {shown.map((c) => (
                <td
                  key={c.key}
                  className={`py-1 pr-6 whitespace-nowrap last:pr-0 max-2xl:pr-4 max-2xl:last:pr-0 ${c.right ? "text-right tabular-nums" : ""}`}
                >
                  {c.key === "device" ? (
                    <Name r={r} by={by} />
                  ) : c.key === "online" ? (
                    <OnLine share={r.online} />
                  ) : c.says ? (
                    c.says(r, now)
                  ) : (
                    said(c.worth(r))
                  )}
                </td>
              ))}
            </tr>
          )}
        />
      )}
    </section>
  );
}

const said = (v: number | string) => (typeof v === "number" ? number(Math.abs(v)) : v);

// Name leads to a device, or to those of a group.
function Name({ r, by }: { r: Row; by: string }) {
  if (!by)
    return (
      <Link to={`/devices/${r.device}`} className="flex items-center gap-2 text-press">
        <Vessel device={r.devices[0]} width={14} badge={false} />
        {r.device}
      </Link>
    );
  const ids = r.devices.map((d) => JSON.stringify(d.id));
  const where =
    by === "all"
      ? ""
      : by === "model"
        ? `device.model == ${JSON.stringify(r.model)} and device.model_version == ${JSON.stringify(r.version)}`
        : r.name === ""
          ? `device.id in (${ids.join(", ")})`
          : `${by === "hub" ? "device.hub" : `label.${by}`} == ${JSON.stringify(r.name)}`;
  return (
    <Link
      to={`/?view=activity${where ? `&where=${encodeURIComponent(where)}` : ""}`}
      className="flex items-baseline gap-2 text-press"
    >
      {r.name || "without one"}
      <span className="text-muted">{plural(r.devices.length, "device")}</span>
    </Link>
  );
}

function OnLine({ share }: { share: number }) {
  return (
    <span className="flex items-center justify-end gap-2 2xl:w-44">
      <span className="hidden h-2 flex-1 bg-line/60 2xl:block" aria-hidden="true">
        <span
          className={`block h-full ${share < 95 ? "bg-watch" : "bg-muted/60"}`}
          style={{ width: `${Math.max(0, share)}%` }}
        />
      </span>
      <span className="w-16 text-right tabular-nums">{number(share, 1)} %</span>
    </span>
  );
}
