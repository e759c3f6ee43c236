import { useState } from "react";
import { api, ask, type Device, type DeviceJob } from "../api/client";
import { number, plural } from "../lib/format";
import { Dialog, Entry } from "./dialog";
import { fieldLook } from "./field";
import { AtOnce, usePreview } from "./layer-form";
import { Labels, type Pair } from "./labels";
import { May } from "./may";
import { useTell } from "./notices";
import { Button } from "./parts";

const wait = (ms: number) => new Promise((done) => setTimeout(done, ms));

// over waits until a change of many devices is over.
async function over(job: DeviceJob): Promise<DeviceJob> {
  let j = job;
  while (!j.ended_at) {
    await wait(150);
    j = await ask(api.GET("/api/v1/device-changes/{id}", { params: { path: { id: job.id! } } }));
  }
  return j;
}

const statuses = [
  ["", "stays as it is"],
  ["suspended", "suspended: kept out until somebody lets it in"],
  ["active", "active: let in again"],
  ["retired", "retired: for good"],
] as const;

// ChangeMany changes labels or the status of the devices that a list shows, and says
// first of how many.
export function ChangeMany({ devices }: { devices: readonly Device[] }) {
  const [open, setOpen] = useState(false);
  if (devices.length === 0) return null;
  return (
    <May role="engineer" some>
      <Button onClick={() => setOpen(true)} className="!px-2.5 !py-1 !font-normal">
        Change {devices.length === 1 ? "it" : `these ${number(devices.length)}`}…
      </Button>
      {open && <ChangeDialog devices={devices} onClose={() => setOpen(false)} />}
    </May>
  );
}

function ChangeDialog({ devices, onClose }: { devices: readonly Device[]; onClose: () => void }) {
  const tell = useTell();
  const [labels, setLabels] = useState<Pair[]>([{ key: "", value: "" }]);
  const [status, setStatus] = useState<DeviceJob["says"]>("");
  const [would, setWould] = useState<DeviceJob>();
  // What the dialog opened with: the list goes on to change behind it.
  const [chosen] = useState(() => devices.map((d) => d.id));
  const named = labels.filter((l) => l.key.trim() !== "");
  // Labels may have layers give them other settings.
  const { preview } = usePreview(
    would && named.length > 0
      ? {
          devices: chosen,
          labels: Object.fromEntries(named.map((l) => [l.key.trim(), l.value.trim()])),
        }
      : undefined,
  );
  const [atOnce, setAtOnce] = useState(false);
  const body = {
    devices: chosen,
    labels: Object.fromEntries(named.map((l) => [l.key.trim(), l.value.trim()])),
    status: (status || undefined) as "active" | "suspended" | "retired" | undefined,
  };
  const change = async () => {
    if (!would) {
      const j = await ask(api.POST("/api/v1/device-changes", { body: { ...body, preview: true } }));
      if (j.devices === 0) throw new Error("The devices are so already; nothing would change.");
      setWould(j);
      return false;
    }
    const j = await over(
      await ask(api.POST("/api/v1/device-changes", { body: { ...body, at_once: atOnce } })),
    );
    const undo = async () => {
      try {
        const back = await over(
          await ask(api.POST("/api/v1/device-changes/{id}/undo", { params: { path: { id: j.id! } } })),
        );
        tell(`${plural(back.done - back.failed, "device")} as before`);
      } catch (e) {
        tell((e as Error).message, { bad: true });
      }
    };
    tell(
      `${plural(j.done - j.failed, "device")} changed: ${j.says}`,
      status === "retired" ? undefined : { undo: () => void undo() },
    );
  };
  const again = () => setWould(undefined);
  return (
    <Dialog
      title={`Change ${plural(chosen.length, "device")}`}
      about="Those that the list shows now."
      verb={
        would
          ? `${status === "retired" ? "Retire" : "Change"} ${plural(would.devices, "device")}`
          : "See what it would be"
      }
      danger={would !== undefined && status === "retired"}
      ready={(named.length > 0 || status !== "") && (atOnce || !preview?.waves)}
      onClose={onClose}
      act={change}
    >
      <Labels pairs={labels} onChange={(l) => (setLabels(l), again())} />
      <p className="-mt-2 pb-3 text-muted">A key without a value takes the label away.</p>
      <Entry label="Status" id="many-status">
        <select
          id="many-status"
          value={status}
          onChange={(e) => (setStatus(e.target.value), again())}
          className={fieldLook}
        >
          {statuses.map(([value, says]) => (
            <option key={value} value={value}>
              {says}
            </option>
          ))}
        </select>
      </Entry>
      {would && (
        <div role="status">
          <p>
            <b>{plural(would.devices, "device")}</b> would get: {would.says}.
            {would.devices < chosen.length && ` ${number(chosen.length - would.devices)} are so already.`}
            {status === "retired" && " That cannot be undone."}
          </p>
          <p className="max-h-32 overflow-y-auto pt-1 font-mono text-[0.8125rem] text-muted">
            {would.some.map((id) => (
              <span key={id} className="mr-3 inline-block">
                {id}
              </span>
            ))}
            {would.devices > would.some.length && ` and ${number(would.devices - would.some.length)} more`}
          </p>
          {preview && preview.devices > 0 && (
            <p className="pt-2">
              {plural(preview.devices, "device")} would get other settings by that, from their layers.
            </p>
          )}
          <AtOnce preview={preview} value={atOnce} onChange={setAtOnce} />
        </div>
      )}
    </Dialog>
  );
}
