import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Device } from "../api/client";
import { absolute, called, number, plural } from "../lib/format";
import { Dialog, Entry } from "./dialog";
import { fieldLook } from "./field";
import { useTell } from "./notices";

// DeleteReadings deletes readings of a device for good: of all metrics or one,
// of a span or all. How many there are is counted before.
export function DeleteReadings({ device: d, onClose }: { device: Device; onClose: () => void }) {
  const [metric, setMetric] = useState("");
  const [from, setFrom] = useState("");
  const [to, setTo] = useState("");
  const [typed, setTyped] = useState("");
  const tell = useTell();
  const all = metric + from + to === "";
  const what = {
    ...(metric && { metric: [metric] }),
    ...(from && { from: new Date(from).toISOString() }),
    ...(to && { to: new Date(to).toISOString() }),
    ...(all && { all }),
  };
  const call = (dry_run: boolean) =>
    ask(
      api.DELETE("/api/v1/devices/{id}/readings", {
        params: { path: { id: d.id }, query: { ...what, dry_run } },
      }),
    );
  const preview = useQuery({
    queryKey: ["delete readings", d.id, metric, from, to],
    queryFn: () => call(true),
    gcTime: 0,
    retry: false,
  });
  const found = preview.data;
  const some = found !== undefined && (found.metrics.length > 0 || !!found.traffic);
  const act = async () => {
    const gone = await call(false);
    tell(`${plural(gone.readings, "reading")} of ${called(d)} ${gone.readings === 1 ? "is" : "are"} deleted`);
  };
  return (
    <Dialog
      wide
      title={`Delete readings of ${called(d)}`}
      about="They are gone for good, with what was summed up of them. The journal tells who did it."
      verb={found ? `Delete ${plural(found.readings, "reading")}` : "Delete"}
      danger
      ready={some && !preview.isFetching && (!all || typed === d.id)}
      act={act}
      onClose={onClose}
    >
      <div className="grid gap-x-4 sm:grid-cols-3">
        <Entry label="Metric" id="delete-metric">
          <select
            id="delete-metric"
            value={metric}
            onChange={(e) => setMetric(e.target.value)}
            className={fieldLook}
          >
            <option value="">all of them</option>
            {Object.keys(d.latest ?? {})
              .sort()
              .map((m) => (
                <option key={m} value={m}>
                  {m}
                </option>
              ))}
          </select>
        </Entry>
        {[
          { id: "delete-from", label: "From", hint: "or the beginning", value: from, set: setFrom },
          { id: "delete-to", label: "To", hint: "or no end", value: to, set: setTo },
        ].map((f) => (
          <Entry key={f.id} label={f.label} hint={f.hint} id={f.id}>
            <input
              id={f.id}
              type="datetime-local"
              value={f.value}
              onChange={(e) => f.set(e.target.value)}
              className={fieldLook}
            />
          </Entry>
        ))}
      </div>
      {preview.error ? (
        <p className="text-urgent">{preview.error.message}</p>
      ) : !found ? (
        <p className="text-muted">Counting…</p>
      ) : !some ? (
        <p className="text-muted">Nothing is stored in that span.</p>
      ) : (
        <div className="max-h-64 overflow-y-auto">
          <table className="w-full text-sm">
            <thead>
              <tr className="border-b border-line text-left text-muted">
                <th className="py-1 font-normal">metric</th>
                <th className="py-1 text-right font-normal">readings</th>
                <th className="py-1 pl-6 font-normal">from</th>
                <th className="py-1 pl-6 font-normal">to</th>
              </tr>
            </thead>
            <tbody>
              {found.metrics.map((m) => (
                <tr key={m.metric} className="border-b border-line">
                  <td className="py-1 font-mono">{m.metric}</td>
                  <td className="py-1 text-right">{number(m.readings)}</td>
                  <td className="py-1 pl-6">{m.first && absolute(m.first)}</td>
                  <td className="py-1 pl-6">{m.last && absolute(m.last)}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {!!found.traffic && <p className="pt-2">And {plural(found.traffic, "message")} of its traffic.</p>}
        </div>
      )}
      {all && some && (
        <div className="pt-3">
          <Entry
            label="This is everything. Type its id to go on"
            hint={<code className="font-mono">{d.id}</code>}
            id="delete-id"
          >
            <input
              id="delete-id"
              value={typed}
              onChange={(e) => setTyped(e.target.value)}
              autoComplete="off"
              className={`${fieldLook} font-mono`}
            />
          </Entry>
        </div>
      )}
    </Dialog>
  );
}
