import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { Link } from "react-router";
import { api, ask, type Device } from "../api/client";
import { Choice, Trouble } from "../components/parts";
import { SaveCsv } from "../components/sorted-table";
import { download, table } from "../lib/csv";
import { minuteOf, number, plural, rem, soonest } from "../lib/format";
import { useParam } from "../lib/use";

const spans = [
  { value: "7d", name: "7 d" },
  { value: "30d", name: "30 d" },
  { value: "90d", name: "90 d" },
  { value: "365d", name: "a year" },
];

type Told = NonNullable<ReturnType<typeof useCourse>["data"]>;
type Part = Told["parts"][number];

function useCourse(of: "firmware" | "model", span: string, where: string) {
  return useQuery({
    queryKey: ["course", of, span, where],
    refetchInterval: 60_000,
    queryFn: () => ask(api.GET("/api/v1/course", { params: { query: { of, span, where } } })),
  });
}

// Course is what devices run, and ran: how many had which firmware, or which version of their
// model, model by model.
export function Course({ devices }: { devices: readonly Device[] }) {
  const [of, setOf] = useParam("count", "firmware");
  const [span, setSpan] = useParam("over", "90d");
  const [where] = useParam("where", "");
  const found = useCourse(of === "model" ? "model" : "firmware", span, where);
  const models = useMemo(() => {
    const m = new Map<string, Part[]>();
    for (const p of found.data?.parts ?? []) {
      const [model, version] = p.name.split(" ");
      // All have told one by now; that they had not yet at first is no version of theirs.
      if (!version && p.counts.at(-1) === 0) continue;
      m.set(model, [...(m.get(model) ?? []), p]);
    }
    const now = (ps: Part[]) => ps.reduce((n, p) => n + (p.counts.at(-1) ?? 0), 0);
    return [...m].sort((a, b) => now(b[1]) - now(a[1]) || a[0].localeCompare(b[0]));
  }, [found.data]);
  const save = () =>
    download(
      `${of}-${span}.csv`,
      "text/csv",
      table(
        ["at", ...(found.data?.parts ?? []).map((p) => p.name)],
        (found.data?.at ?? []).map((at, i) => [
          at,
          ...(found.data?.parts ?? []).map((p) => String(p.counts[i])),
        ]),
      ),
    );
  return (
    <section aria-label="Versions">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pb-2">
        <Choice
          label="What is counted"
          value={of}
          onChange={setOf}
          options={[
            { value: "firmware", name: "Firmware" },
            { value: "model", name: "Version of the model" },
          ]}
        />
        <Choice label="Span" options={spans} value={span} onChange={setSpan} />
        <SaveCsv onSave={save} />
      </div>
      {found.error ? (
        <Trouble>{found.error.message}</Trouble>
      ) : !found.data ? (
        <p className="py-6 text-muted">Counting…</p>
      ) : models.length === 0 || devices.length === 0 ? (
        <p className="py-6 text-muted">No device is chosen.</p>
      ) : (
        models.map(([model, parts]) => (
          <Of key={model} model={model} parts={parts} at={found.data.at} firmware={of === "firmware"} />
        ))
      )}
    </section>
  );
}

const wide = 600;

// newest tells which of two versions comes later, number by number.
const newest = (a: string, b: string) => b.localeCompare(a, undefined, { numeric: true });

// The newest version is the darkest, whatever is older is lighter.
const shade = (i: number) => [0.82, 0.5, 0.3, 0.18, 0.1][Math.min(i, 4)];

function Of({
  model,
  parts,
  at,
  firmware,
}: {
  model: string;
  parts: Part[];
  at: string[];
  firmware: boolean;
}) {
  const versions = [...parts].sort((a, b) => newest(a.name, b.name));
  const total = at.map((_, i) => versions.reduce((n, p) => n + p.counts[i], 0));
  const most = Math.max(1, ...total);
  const high = versions.length > 1 ? 72 : 14; // of one alone there is little to see
  const x = (i: number) => (i / Math.max(at.length - 1, 1)) * wide;
  // From the bottom up, the newest first: steps, since a count holds until it changes.
  const below = at.map(() => 0);
  const areas = versions.map((p, k) => {
    const y = (n: number) => high - (n / most) * (high - 2);
    let top = "";
    let bottom = "";
    p.counts.forEach((n, i) => {
      const to = i === at.length - 1 ? "" : `H${x(i + 1).toFixed(1)}`;
      top += `${i === 0 ? "M" : "L"}${x(i).toFixed(1)} ${y(below[i] + n).toFixed(1)}${to}`;
      bottom = `L${i === at.length - 1 ? x(i).toFixed(1) : x(i + 1).toFixed(1)} ${y(below[i]).toFixed(1)}L${x(i).toFixed(1)} ${y(below[i]).toFixed(1)}${bottom}`;
      below[i] += n;
    });
    return (
      <path
        key={p.name}
        d={`${top}${bottom}Z`}
        fill="var(--ink)"
        fillOpacity={shade(k)}
        stroke="var(--ground)"
        strokeWidth="0.7"
      />
    );
  });
  const now = (p: Part) => p.counts.at(-1) ?? 0;
  const label = (p: Part) => p.name.slice(model.length + 1) || (firmware ? "none told" : p.name);
  const where = (p: Part) =>
    firmware
      ? `device.model == ${JSON.stringify(model)}${p.name === model ? "" : ` and attr.firmware == ${JSON.stringify(label(p))}`}`
      : `device.model == ${JSON.stringify(model)} and device.model_version == ${JSON.stringify(label(p))}`;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-x-6 gap-y-2 border-t border-line py-3 md:grid-cols-[9rem_minmax(0,1fr)_minmax(16rem,22rem)]">
      <div>
        <h2 className="font-semibold">{model}</h2>
        <p className="text-muted">{plural(total.at(-1) ?? 0, "device")}</p>
      </div>
      <div className="min-w-0">
        <svg
          viewBox={`0 0 ${wide} ${high}`}
          preserveAspectRatio="none"
          className="w-full"
          style={{ height: rem(high) }}
          role="img"
          aria-label={`${model}: ${versions.map((p) => `${number(now(p))} ${label(p)}`).join(", ")} now`}
        >
          {areas}
          <line x1="0" x2={wide} y1={high} y2={high} stroke="var(--rim)" vectorEffect="non-scaling-stroke" />
        </svg>
        <p className="flex justify-between text-[0.8125rem] text-muted">
          <span>{minuteOf(Date.parse(at[0]))}</span>
          <span>now</span>
        </p>
      </div>
      <table className="self-start">
        <tbody>
          {versions.map((p, k) => (
            <tr key={p.name}>
              <td className="py-0.5 pr-3 whitespace-nowrap">
                <span
                  className="mr-2 inline-block size-3 align-[-0.1em]"
                  style={{ background: "var(--ink)", opacity: shade(k) }}
                />
                {now(p) > 0 ? (
                  <Link to={`/?view=list&where=${encodeURIComponent(where(p))}`} className="text-press">
                    {label(p)}
                  </Link>
                ) : (
                  label(p)
                )}
              </td>
              <td className="py-0.5 pr-3 text-right tabular-nums">{number(now(p))}</td>
              <td className="py-0.5 text-muted">
                {now(p) === 0 ? "none any more" : `since ${soonest(p.first)}`}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
