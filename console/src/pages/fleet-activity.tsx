import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { Link } from "react-router";
import { api, ask, type Device } from "../api/client";
import { Choice, Trouble } from "../components/parts";
import { Vessel } from "../components/vessel";
import { download, table } from "../lib/csv";
import { ago, lasting, number } from "../lib/format";
import { useNow, useParam } from "../lib/use";

const spans = [
  { value: "24h", name: "24 h" },
  { value: "7d", name: "7 d" },
  { value: "30d", name: "30 d" },
  { value: "90d", name: "90 d" },
];

type Row = NonNullable<ReturnType<typeof useActivity>["data"]>[number];

function useActivity(span: string) {
  return useQuery({
    queryKey: ["activity", span],
    refetchInterval: 60_000,
    queryFn: () => ask(api.GET("/api/v1/activity", { params: { query: { span } } })),
  });
}

const columns: { key: string; name: string; worth: (r: Row) => number | string }[] = [
  { key: "device", name: "device", worth: (r) => r.device },
  { key: "site", name: "site", worth: (r) => r.site ?? "" },
  { key: "online", name: "on line", worth: (r) => r.online },
  { key: "spells", name: "times off", worth: (r) => -r.spells },
  { key: "longest", name: "longest", worth: (r) => -r.longest },
  { key: "last", name: "newest reading", worth: (r) => r.last_at ?? "" },
  { key: "model", name: "model", worth: (r) => `${r.model} ${r.version}` },
  { key: "firmware", name: "firmware", worth: (r) => r.firmware ?? "" },
  { key: "refused", name: "refused", worth: (r) => -r.refused },
];

// Activity is how devices were in contact over a span, the worst first.
export function Activity({ devices }: { devices: readonly Device[] }) {
  const [span, setSpan] = useParam("over", "30d");
  const [sort, setSort] = useParam("by-activity", "online");
  const now = useNow(10_000);
  const found = useActivity(span);
  const down = sort.startsWith("-");
  const rows = useMemo(() => {
    const shown = new Map(devices.map((d) => [d.id, d]));
    const column = columns.find((c) => c.key === sort.replace("-", "")) ?? columns[2];
    const out = (found.data ?? []).flatMap((r) => {
      const d = shown.get(r.device);
      return d ? [{ r, d }] : [];
    });
    return out.sort((a, b) => {
      const [p, q] = [column.worth(a.r), column.worth(b.r)];
      return (
        (down ? -1 : 1) *
        (typeof p === "number" && typeof q === "number" ? p - q : String(p).localeCompare(String(q)))
      );
    });
  }, [found.data, devices, sort, down]);
  const save = () =>
    download(
      `activity-${span}.csv`,
      "text/csv",
      table(
        [
          "device",
          "site",
          "online_percent",
          "times_off",
          "longest_seconds",
          "newest_reading",
          "model",
          "version",
          "firmware",
          "refused",
        ],
        rows.map(({ r }) => [
          r.device,
          r.site ?? "",
          r.online.toFixed(2),
          String(r.spells),
          String(Math.round(r.longest)),
          r.last_at ?? "",
          r.model,
          r.version,
          r.firmware ?? "",
          String(r.refused),
        ]),
      ),
    );
  const most = 300;
  return (
    <section aria-label="Activity">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pb-2">
        <Choice label="Span" options={spans} value={span} onChange={setSpan} />
        <span className="text-muted">how long each was on line, the worst first</span>
        <button type="button" onClick={save} className="ml-auto text-press underline">
          CSV
        </button>
      </div>
      {found.error ? (
        <Trouble>{found.error.message}</Trouble>
      ) : !found.data ? (
        <p className="py-6 text-muted">Adding up…</p>
      ) : (
        <div className="overflow-x-auto">
          <table className="w-full">
            <thead>
              <tr className="border-b border-line text-left">
                {columns.map((c) => {
                  const on = sort.replace("-", "") === c.key;
                  return (
                    <th
                      key={c.key}
                      scope="col"
                      aria-sort={on ? (down ? "descending" : "ascending") : undefined}
                      className={`py-1.5 pr-4 font-normal whitespace-nowrap ${["spells", "longest", "last", "refused"].includes(c.key) ? "text-right" : ""}`}
                    >
                      <button
                        type="button"
                        className={on ? "font-semibold" : "text-muted hover:text-ink"}
                        onClick={() => setSort(on && !down ? `-${c.key}` : c.key)}
                      >
                        {c.name}
                        {on && <span aria-hidden="true">{down ? " ↑" : " ↓"}</span>}
                      </button>
                    </th>
                  );
                })}
              </tr>
            </thead>
            <tbody>
              {rows.slice(0, most).map(({ r, d }) => (
                <tr key={r.device} className="border-b border-line">
                  <td className="py-1 pr-4 whitespace-nowrap">
                    <Link to={`/devices/${r.device}`} className="flex items-center gap-2 text-press">
                      <Vessel device={d} width={14} badge={false} />
                      {r.device}
                    </Link>
                  </td>
                  <td className="py-1 pr-4 whitespace-nowrap">{r.site}</td>
                  <td className="w-56 py-1 pr-4">
                    <span className="flex items-center gap-2">
                      <span className="h-2 flex-1 bg-line/60" aria-hidden="true">
                        <span
                          className={`block h-full ${r.online < 95 ? "bg-watch" : "bg-muted/60"}`}
                          style={{ width: `${Math.max(0, r.online)}%` }}
                        />
                      </span>
                      <span className="w-16 text-right tabular-nums">{number(r.online, 1)} %</span>
                    </span>
                  </td>
                  <td className="py-1 pr-4 text-right tabular-nums">{number(r.spells)}</td>
                  <td className="py-1 pr-4 text-right whitespace-nowrap">
                    {r.spells > 0 ? lasting(r.longest * 1000) : ""}
                  </td>
                  <td className="py-1 pr-4 text-right whitespace-nowrap text-muted">{ago(r.last_at, now)}</td>
                  <td className="py-1 pr-4 whitespace-nowrap">
                    {r.model} {r.version}
                  </td>
                  <td className="py-1 pr-4 whitespace-nowrap">{r.firmware}</td>
                  <td className="py-1 pr-4 text-right tabular-nums">{number(r.refused)}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {rows.length > most && (
            <p className="pt-1 text-muted">
              The first {number(most)} of {number(rows.length)} are shown; the CSV has all.
            </p>
          )}
        </div>
      )}
    </section>
  );
}
