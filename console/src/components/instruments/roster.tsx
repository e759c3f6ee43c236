import { useMemo, useState } from "react";
import { Link } from "react-router";
import type { Device, Instrument } from "../../api/client";
import { isMetric, useChosen, useLines, useModelsOf, type Seen } from "../../lib/board";
import { absolute, ago, called, number, plural, say, words } from "../../lib/format";
import { byNeed } from "../../lib/need";
import { Spark } from "../spark";
import { Vessel } from "../vessel";
import { Frame, None, titleOf } from "./parts";

const heads: Record<string, string> = {
  health: "health",
  link: "link",
  model: "model",
  headspace: "headspace",
  seen: "last heard",
};

const mostLines = 500; // of one question
const sparkSteps = 40;

// Roster is a table of devices, those first that need somebody.
export function Roster({ x, seen }: { x: Instrument; seen: Seen }) {
  const { devices, pending } = useChosen(seen.where);
  const columns = useMemo(
    () => (x.columns?.length ? x.columns : ["health", "headspace", "seen"]),
    [x.columns],
  );
  const [sort, setSort] = useState("");
  const down = sort.startsWith("-");
  const key = down ? sort.slice(1) : sort;
  const rows = useMemo(() => {
    const worth = (d: Device): number | string => {
      switch (key) {
        case "id":
          return d.id;
        case "headspace":
          return d.headspace ?? 2;
        case "seen":
          return d.last_at ?? "";
        case "health":
          return d.health ?? "";
        case "link":
          return d.link;
        case "model":
          return d.model;
      }
      if (key.startsWith("label.")) return d.labels[key.slice(6)] ?? "";
      const v = d.latest[key]?.value;
      return typeof v === "number" ? v : typeof v === "boolean" ? Number(v) : String(v ?? "");
    };
    const out = [...devices].sort(byNeed);
    if (key)
      out.sort((a, b) => {
        const [p, q] = [worth(a), worth(b)];
        return (
          (down ? -1 : 1) *
          (typeof p === "number" && typeof q === "number" ? p - q : String(p).localeCompare(String(q)))
        );
      });
    return out;
  }, [devices, key, down]);
  // The course of each metric over the span stands beside its value, for as many as are asked at once.
  const metrics = useMemo(() => columns.filter(isMetric), [columns]);
  const models = useModelsOf(devices);
  const answer = useLines(metrics, seen, {
    steps: sparkSteps,
    enabled: devices.length > 0 && devices.length * metrics.length <= mostLines,
  });
  const courses = useMemo(
    () =>
      new Map(
        (answer.data?.lines ?? []).map((l) => [
          `${l.device}/${l.metric}`,
          {
            from: answer.data!.from,
            to: answer.data!.to,
            steps: l.steps.map((s) => ({ at: s.at, mean: s.value })),
          },
        ]),
      ),
    [answer.data],
  );
  const cell = (d: Device, c: string) => {
    switch (c) {
      case "health":
        return d.health ?? d.status;
      case "link":
        return d.link;
      case "model":
        return d.model;
      case "headspace":
        return d.headspace === undefined ? "" : `${number(100 * d.headspace, 0)} %`;
      case "seen":
        return ago(d.last_at, seen.now);
    }
    if (c.startsWith("label.")) return d.labels[c.slice(6)] ?? "";
    if (!d.latest[c]) return "";
    const p = models.get(d.model)?.find((q) => q.name === c);
    const course = courses.get(`${d.id}/${c}`);
    return (
      <span className="flex items-center justify-end gap-2">
        {course && course.steps.length > 1 && <Spark history={course} width={56} height={18} />}
        <span title={absolute(d.latest[c].at)}>
          {say(d.latest[c].value, p)}{" "}
          {typeof d.latest[c].value === "number" && <span className="text-muted">{p?.display}</span>}
        </span>
      </span>
    );
  };
  const right = (c: string) => !["id", "health", "link", "model"].includes(c) && !c.startsWith("label.");
  return (
    <Frame title={titleOf(x)} aside={plural(rows.length, "device")}>
      {rows.length === 0 ? (
        <None>{pending ? "Loading…" : "No device is chosen."}</None>
      ) : (
        <table className="w-full border-collapse">
          <thead className="sticky top-0 bg-ground">
            <tr className="text-muted">
              {["id", ...columns].map((c) => (
                <th
                  key={c}
                  scope="col"
                  aria-sort={key === c ? (down ? "descending" : "ascending") : undefined}
                  className={`border-b border-line py-1 pr-4 font-normal whitespace-nowrap ${right(c) ? "text-right" : "text-left"}`}
                >
                  <button
                    type="button"
                    className="hover:text-ink"
                    onClick={() => setSort(key === c && !down ? `-${c}` : c)}
                  >
                    {c === "id" ? "device" : (heads[c] ?? words(c.replace(/^label\./, "")))}{" "}
                    {key === c ? (down ? "↓" : "↑") : ""}
                  </button>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.slice(0, 200).map((d) => (
              <tr key={d.id} className="border-b border-line">
                <td className="py-1 pr-4 whitespace-nowrap">
                  <Link to={`/devices/${d.id}`} className="flex items-center gap-2.5 hover:text-press">
                    <Vessel device={d} width={13} badge={false} />
                    {called(d)}
                  </Link>
                </td>
                {columns.map((c) => (
                  <td
                    key={c}
                    className={`py-1 pr-4 whitespace-nowrap tabular-nums ${right(c) ? "text-right" : ""}`}
                  >
                    {cell(d, c)}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {rows.length > 200 && (
        <p className="py-1 text-muted">
          The first 200 are shown;{" "}
          <Link to={`/?view=list&where=${encodeURIComponent(seen.where)}`} className="text-press underline">
            all {number(rows.length)}
          </Link>
        </p>
      )}
    </Frame>
  );
}
