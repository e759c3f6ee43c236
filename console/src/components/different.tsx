import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import { lasting, number, plural } from "../lib/format";
import { iso, type Times } from "../lib/history";
import { written } from "../lib/prefer";
import { Button, Trouble } from "./parts";

interface Differing {
  device: string;
  metric: string;
  unit?: string;
  decimals: number;
  was: number;
  is: number;
  deviation: number;
}

// notable is the deviation from which on something is other than before.
const notable = 3;

// Different says what was other in the span that is shown than before it: the metrics of the
// device and its peers by how far they deviate, and what happened.
export function Different({ device, times, onClose }: { device: string; times: Times; onClose: () => void }) {
  // A span until now moves on; it is asked again once a minute.
  const to = times.live ? Math.ceil(times.to / 60_000) * 60_000 : times.to;
  const found = useQuery({
    queryKey: ["different", device, Math.round(times.from / 60_000), to],
    placeholderData: (old) => old,
    queryFn: () =>
      ask(
        api.GET("/api/v1/devices/{id}/different", {
          params: { path: { id: device }, query: { span: `${iso(times.from)}..${iso(times.to)}` } },
        }),
      ),
  });
  const d = found.data;
  return (
    <section aria-label="What was different" className="mb-3 border border-line bg-surface px-4 py-3">
      <div className="flex flex-wrap items-baseline gap-x-3 pb-2">
        <h2 className="font-semibold">What was different?</h2>
        {d && (
          <span className="text-muted">
            these {lasting(Date.parse(d.to) - Date.parse(d.from))}, beside the{" "}
            {lasting(Date.parse(d.from) - Date.parse(d.before))} before; drag over a chart for another span
          </span>
        )}
        <Button onClick={onClose} className="ml-auto !px-2.5 !py-0.5 !font-normal">
          Close
        </Button>
      </div>
      {found.error ? (
        <Trouble>{found.error.message}</Trouble>
      ) : !d ? (
        <p className="text-muted">Comparing…</p>
      ) : (
        <>
          <p className="pb-2">
            <b>{verdict(d.metrics, d.peers, d.alike, d.metric)}</b>
          </p>
          <div className="grid gap-x-8 gap-y-4 lg:grid-cols-3">
            <Ranked title="Metrics, by how far they deviate" rows={d.metrics} name={(x) => x.metric} />
            <Ranked
              title={`Peers in ${d.metric ?? "the same"}`}
              rows={d.peers.slice(0, 8)}
              name={(x) => (
                <Link to={`/devices/${x.device}`} className="text-press">
                  {x.device}
                </Link>
              )}
              none="There are no devices of the same model and stage."
            />
            <div>
              <h3 className="pb-1 text-muted">What happened</h3>
              {d.facts.length === 0 ? (
                <p>Nothing in the journal of the device and its hub.</p>
              ) : (
                <ul className="max-h-56 overflow-y-auto border-t border-line">
                  {d.facts.map((f) => (
                    <li key={f.number} className="flex gap-3 border-b border-line py-1">
                      <span className="whitespace-nowrap text-muted">
                        {written(Date.parse(f.at), { hour: "2-digit", minute: "2-digit", second: "2-digit" })}
                      </span>
                      <span className="min-w-0">{f.text}</span>
                    </li>
                  ))}
                </ul>
              )}
            </div>
          </div>
        </>
      )}
    </section>
  );
}

// verdict says in one sentence whether it is the device or what is around it.
function verdict(metrics: Differing[], peers: Differing[], alike: number, metric?: string): string {
  if (metrics.length === 0) return "There are too few readings in the span, or before it, to compare.";
  const far = metrics.filter((m) => Math.abs(m.deviation) >= notable);
  if (far.length === 0) return "Nothing was other than before.";
  const what = far.map((m) => m.metric).join(", ");
  if (peers.length === 0) return `Other than before: ${what}.`;
  if (alike === 0)
    return `Other than before: ${what}; none of ${plural(peers.length, "peer")} did the same in ${metric}, so it is this device.`;
  if (alike * 2 >= peers.length)
    return `Other than before: ${what}; ${number(alike)} of ${plural(peers.length, "peer")} did the same in ${metric}, so it is something around them.`;
  return `Other than before: ${what}; ${number(alike)} of ${plural(peers.length, "peer")} did the same in ${metric}.`;
}

function Ranked({
  title,
  rows,
  name,
  none = "Too few readings to compare.",
}: {
  title: string;
  rows: Differing[];
  name: (x: Differing) => React.ReactNode;
  none?: string;
}) {
  const most = Math.max(notable, ...rows.map((x) => Math.abs(x.deviation)));
  const digits = (x: Differing) => Math.max(0, x.decimals);
  return (
    <div>
      <h3 className="pb-1 text-muted">{title}</h3>
      {rows.length === 0 ? (
        <p>{none}</p>
      ) : (
        <ul className="border-t border-line">
          {rows.map((x) => {
            const far = Math.abs(x.deviation) >= notable;
            return (
              <li
                key={x.device + x.metric}
                className="grid grid-cols-[minmax(0,1fr)_auto_4.5rem] items-center gap-x-3 border-b border-line py-1"
                title={`${number(x.deviation, 1)} spreads`}
              >
                <span className={`truncate font-mono text-[0.8125rem] ${far ? "font-semibold" : ""}`}>
                  {name(x)}
                </span>
                <span className="text-right whitespace-nowrap">
                  <span className="text-muted">{number(x.was, digits(x))} → </span>
                  {number(x.is, digits(x))} <span className="text-muted">{x.unit}</span>
                </span>
                <span className="flex h-2 bg-line/60" aria-hidden="true">
                  <span
                    className={far ? "bg-watch" : "bg-muted/60"}
                    style={{ width: `${(100 * Math.min(Math.abs(x.deviation), most)) / most}%` }}
                  />
                </span>
              </li>
            );
          })}
        </ul>
      )}
    </div>
  );
}
