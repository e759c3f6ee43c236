import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, listed, tagged, type Maintenance } from "../api/client";
import { Dialog, Entry } from "../components/dialog";
import { fieldLook } from "../components/field";
import { May } from "../components/may";
import { useTell } from "../components/notices";
import { Button, Choice, Empty, Trouble } from "../components/parts";
import { Where } from "../components/where";
import { absolute, plural, soon, words } from "../lib/format";
import { useNow, useTitle } from "../lib/use";
import { AlarmTabs } from "./alarms";

// when says when a maintenance is.
function when(m: Maintenance): string {
  const parts = [];
  if (m.during) parts.push(m.during);
  if (m.from) parts.push(`from ${absolute(m.from)}`);
  if (m.to) parts.push(`until ${absolute(m.to)}`);
  return parts.join(", ");
}

// MaintenancePage lists when devices are out of service.
export default function MaintenancePage() {
  useTitle("Maintenance");
  const queries = useQueryClient();
  const tell = useTell();
  const now = useNow(15_000);
  const [editing, setEditing] = useState<Maintenance | "new">();
  const list = useQuery({
    queryKey: ["maintenances"],
    refetchInterval: 15_000,
    queryFn: () => listed(api.GET("/api/v1/maintenances")),
  });
  const over = (m: Maintenance) => m.to !== undefined && Date.parse(m.to) <= now;
  const rows = [...(list.data?.items ?? [])].sort(
    (a, b) =>
      Number(b.active) - Number(a.active) ||
      Number(over(a)) - Number(over(b)) ||
      a.maintenance.localeCompare(b.maintenance),
  );
  const fresh = () => queries.invalidateQueries({ queryKey: ["maintenances"] });
  const remove = async (m: Maintenance) => {
    try {
      await ask(api.DELETE("/api/v1/maintenances/{name}", { params: { path: { name: m.maintenance } } }));
      tell(`${words(m.maintenance)} is removed; what it kept aside calls again.`, {
        undo: over(m)
          ? undefined
          : () =>
              void ask(
                api.PUT("/api/v1/maintenances/{name}", {
                  params: { path: { name: m.maintenance } },
                  body: written(m),
                }),
              ).then(fresh),
      });
      await fresh();
    } catch (e) {
      tell((e as Error).message, { bad: true });
    }
  };
  return (
    <>
      <AlarmTabs />
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pb-3">
        <p className="max-w-[46rem] text-muted">
          Devices in maintenance are out of service: their readings and the journal go on, and their alarms
          call nobody.
        </p>
        <span className="ml-auto">
          <May role="operator" some>
            <Button primary onClick={() => setEditing("new")}>
              Plan maintenance
            </Button>
          </May>
        </span>
      </div>
      {list.isPending ? (
        <p className="text-muted">Loading…</p>
      ) : list.error ? (
        <Trouble>{list.error.message}</Trouble>
      ) : rows.length === 0 ? (
        <Empty
          title="No maintenance is planned"
          why="Plan one before tanks are cleaned or probes are changed, so that nobody is called for it."
        />
      ) : (
        <ul className="border-t border-line">
          {rows.map((m) => (
            <li
              key={m.maintenance}
              className={`grid gap-x-4 border-b border-line py-2.5 sm:grid-cols-[minmax(0,1fr)_auto_auto] ${over(m) ? "text-muted" : ""}`}
            >
              <div className="min-w-0">
                <p className="text-base">
                  <span className={m.active ? "font-semibold" : ""}>{words(m.maintenance)}</span>{" "}
                  <span className="text-muted">{m.why}</span>
                </p>
                <p className="text-muted">
                  {when(m)} · <code className="font-mono text-[0.8125rem]">{m.devices}</code>
                  {m.by && ` · by ${m.by}`}
                </p>
              </div>
              <p className="self-center text-right">
                {m.active ? (
                  <b>{plural(m.count, "device")} out of service now</b>
                ) : (
                  <span className="text-muted">
                    {over(m)
                      ? "over"
                      : m.from && Date.parse(m.from) > now
                        ? `begins ${soon(m.from)}`
                        : `not now, ${plural(m.count, "device")}`}
                  </span>
                )}
              </p>
              <div className="flex gap-2 self-center">
                <May role="operator" some>
                  <Button onClick={() => setEditing(m)} className="!px-2.5 !py-1">
                    Change…
                  </Button>
                  <Button
                    onClick={() => void remove(m)}
                    className="!px-2.5 !py-1"
                    aria-label={`Remove ${words(m.maintenance)}`}
                  >
                    {m.active ? "End" : "Remove"}
                  </Button>
                </May>
              </div>
            </li>
          ))}
        </ul>
      )}
      {editing && (
        <Plan
          given={editing === "new" ? undefined : editing}
          onClose={() => setEditing(undefined)}
          onDone={fresh}
        />
      )}
    </>
  );
}

const written = (m: Maintenance) =>
  ({
    maintenance: m.maintenance,
    devices: m.devices,
    from: m.from,
    to: m.to,
    during: m.during,
    why: m.why,
  }) as Maintenance;

// local writes a time as a field for times takes it, and back.
const local = (at?: string) => {
  if (!at) return "";
  const d = new Date(at);
  return new Date(d.getTime() - d.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
};

// later is some hours after a time, or after now.
const later = (from: string, hours: number) =>
  local(new Date((from ? Date.parse(from) : Date.now()) + hours * 3600_000).toISOString());

function Plan({
  given,
  onClose,
  onDone,
}: {
  given?: Maintenance;
  onClose: () => void;
  onDone: () => Promise<unknown>;
}) {
  const [name, setName] = useState(given?.maintenance ?? "");
  const [devices, setDevices] = useState(given?.devices ?? "");
  const [kind, setKind] = useState(given?.during ? "weekly" : "once");
  const [from, setFrom] = useState(local(given?.from));
  const [to, setTo] = useState(local(given?.to));
  const [during, setDuring] = useState(given?.during ?? "");
  const [reason, setReason] = useState(given?.why ?? "");
  const tell = useTell();
  const act = async () => {
    let tag: string | undefined;
    if (given)
      tag = (
        await tagged(
          api.GET("/api/v1/maintenances/{name}", { params: { path: { name: given.maintenance } } }),
        )
      ).tag;
    await ask(
      api.PUT("/api/v1/maintenances/{name}", {
        params: { path: { name }, header: tag ? { "If-Match": tag } : { "If-None-Match": "*" } },
        body: {
          maintenance: name,
          devices,
          from: kind === "once" && from ? new Date(from).toISOString() : undefined,
          to: kind === "once" && to ? new Date(to).toISOString() : undefined,
          during: kind === "weekly" ? during : undefined,
          why: reason || undefined,
        } as Maintenance,
      }),
    );
    tell(`${words(name)} is planned.`);
    await onDone();
  };
  return (
    <Dialog
      title={given ? `Change ${words(given.maintenance)}` : "Plan maintenance"}
      verb="Save"
      wide
      ready={name !== "" && devices.trim() !== "" && (kind === "once" ? to !== "" : during.trim() !== "")}
      act={act}
      onClose={onClose}
    >
      {!given && (
        <Entry label="Name" hint="small letters, like tank_cleaning" id="maintenance-name">
          <input
            id="maintenance-name"
            value={name}
            onChange={(e) => setName(e.target.value.toLowerCase().replaceAll(/[ -]/g, "_"))}
            className={fieldLook}
            autoFocus
          />
        </Entry>
      )}
      <div className="pb-3">
        <p className="pb-0.5">Devices</p>
        <Where
          value={devices}
          onChange={setDevices}
          label="Devices in maintenance"
          placeholder='Those for which this is true, such as label.site == "Kilnside"'
        />
      </div>
      <div className="pb-3">
        <Choice
          label="When"
          value={kind}
          onChange={setKind}
          options={[
            { value: "once", name: "From – to" },
            { value: "weekly", name: "Hours of the week" },
          ]}
        />
      </div>
      {kind === "once" ? (
        <div className="grid gap-x-4 sm:grid-cols-2">
          <Entry label="From" hint="at once if empty" id="maintenance-from">
            <input
              id="maintenance-from"
              type="datetime-local"
              value={from}
              onChange={(e) => setFrom(e.target.value)}
              className={fieldLook}
            />
          </Entry>
          <Entry label="To" id="maintenance-to">
            <input
              id="maintenance-to"
              type="datetime-local"
              value={to}
              onChange={(e) => setTo(e.target.value)}
              className={fieldLook}
            />
            <span className="flex gap-3 pt-1 text-muted">
              {[1, 4, 8, 24].map((n) => (
                <button key={n} type="button" className="text-press" onClick={() => setTo(later(from, n))}>
                  {n} h
                </button>
              ))}
            </span>
          </Entry>
        </div>
      ) : (
        <Entry label="Hours" hint="by the clock of each device's site" id="maintenance-during">
          <input
            id="maintenance-during"
            value={during}
            placeholder="Mon-Fri 06:00-07:00"
            onChange={(e) => setDuring(e.target.value)}
            className={`${fieldLook} font-mono`}
          />
        </Entry>
      )}
      <Entry label="What is done" id="maintenance-why">
        <input
          id="maintenance-why"
          value={reason}
          maxLength={400}
          onChange={(e) => setReason(e.target.value)}
          className={fieldLook}
        />
      </Entry>
    </Dialog>
  );
}
