import { DropdownMenu } from "radix-ui";
import { useState, type ReactNode } from "react";
import { api, ask, type Device, type Onboarded } from "../api/client";
import { useFleet } from "../api/live";
import { called } from "../lib/format";
import { Credentials } from "./credentials";
import { DeleteReadings } from "./delete-readings";
import { Dialog, Entry } from "./dialog";
import { fieldLook } from "./field";
import { Labels, toLabels, type Pair } from "./labels";
import { useTell } from "./notices";
import { Download, Token } from "./onboarded";

type Act = "describe" | "credentials" | "token" | "replace" | "suspend" | "retire" | "delete";

// DeviceActions are what people do to a device, but for its settings.
export function DeviceActions({ device: d }: { device: Device }) {
  const [open, setOpen] = useState<Act>();
  const tell = useTell();
  const path = { params: { path: { id: d.id } } };
  const status = (to: "active" | "suspended" | "retired") =>
    ask(api.POST("/api/v1/devices/{id}/status", { ...path, body: { status: to } }));
  const resume = () =>
    status("active").then(
      () => tell(`${called(d)} may connect again`, { undo: () => status("suspended") }),
      (e: Error) => tell(e.message, { bad: true }),
    );
  const close = () => setOpen(undefined);
  const item = "cursor-pointer px-3 py-1.5 outline-none data-[highlighted]:bg-ground";
  const entry = (act: Act, text: ReactNode) => (
    <DropdownMenu.Item className={item} onSelect={() => setOpen(act)}>
      {text}
    </DropdownMenu.Item>
  );
  return (
    <>
      <DropdownMenu.Root modal={false}>
        <DropdownMenu.Trigger className="rounded-[4px] border border-line bg-surface px-3 py-1.5 font-semibold hover:border-muted">
          Device…
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content
            align="end"
            sideOffset={4}
            className="z-40 min-w-52 border border-line bg-surface py-1 text-sm shadow-md"
          >
            {entry("describe", "Name, labels and hub")}
            {entry("credentials", "Credentials")}
            {d.status !== "retired" && entry("token", "New credential")}
            {d.status !== "retired" && entry("replace", "Replace the hardware")}
            <DropdownMenu.Separator className="my-1 border-t border-line" />
            {d.status === "suspended" ? (
              <DropdownMenu.Item className={item} onSelect={resume}>
                Let it in again
              </DropdownMenu.Item>
            ) : (
              d.status !== "retired" && entry("suspend", "Suspend")
            )}
            {d.status !== "retired" && entry("retire", "Retire")}
            <DropdownMenu.Separator className="my-1 border-t border-line" />
            <DropdownMenu.Item className={item} asChild>
              <a href={`/api/v1/devices/${d.id}/snapshot`} download>
                Snapshot of the last 24 h
              </a>
            </DropdownMenu.Item>
            {entry("delete", "Delete readings")}
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
      {open === "describe" && <Describe device={d} onClose={close} />}
      {open === "credentials" && <Credentials device={d} onClose={close} />}
      {(open === "token" || open === "replace") && (
        <NewCredential device={d} replace={open === "replace"} onClose={close} />
      )}
      {open === "suspend" && (
        <Dialog
          title={`Suspend ${called(d)}?`}
          about="It is cut off at once and may not connect until it is let in again. Its readings and settings stay."
          verb="Suspend it"
          danger
          act={async () => {
            await status("suspended");
            tell(`${called(d)} is suspended`, { undo: () => status("active") });
          }}
          onClose={close}
        />
      )}
      {open === "delete" && <DeleteReadings device={d} onClose={close} />}
      {open === "retire" && <Retire device={d} act={() => status("retired")} onClose={close} />}
    </>
  );
}

function Describe({ device: d, onClose }: { device: Device; onClose: () => void }) {
  const { devices } = useFleet();
  const [name, setName] = useState(d.name ?? "");
  const [hub, setHub] = useState(d.hub ?? "");
  const [pairs, setPairs] = useState<Pair[]>(() =>
    Object.entries(d.labels).map(([key, value]) => ({ key, value })),
  );
  const tell = useTell();
  // change makes the device as it should be, and returns what it was.
  const change = async (to: { name: string; hub: string; labels: Record<string, string> }, from: Device) => {
    const params = { path: { id: d.id } };
    const body = {
      ...(to.name !== (from.name ?? "") && { name: to.name }),
      ...(to.hub !== (from.hub ?? "") && { hub: to.hub }),
    };
    if (Object.keys(body).length > 0) await ask(api.PATCH("/api/v1/devices/{id}", { params, body }));
    const labels: Record<string, string> = {};
    for (const k of Object.keys(from.labels)) if (!(k in to.labels)) labels[k] = "";
    for (const [k, v] of Object.entries(to.labels)) if (from.labels[k] !== v) labels[k] = v;
    if (Object.keys(labels).length > 0)
      await ask(api.POST("/api/v1/devices/{id}/labels", { params, body: { labels } }));
  };
  const act = async () => {
    const next = { name: name.trim(), hub: hub.trim(), labels: toLabels(pairs) };
    await change(next, d);
    tell(`${next.name || d.id} is saved`, {
      undo: () =>
        change(
          { name: d.name ?? "", hub: d.hub ?? "", labels: d.labels },
          { ...d, name: next.name, hub: next.hub, labels: next.labels },
        ).catch((e: Error) => tell(e.message, { bad: true })),
    });
  };
  return (
    <Dialog
      title={d.id}
      about="What people say about it. Its id stays."
      verb="Save"
      act={act}
      onClose={onClose}
    >
      <Entry label="Name" hint="in any script; empty for the id alone" id="device-name">
        <input
          id="device-name"
          value={name}
          maxLength={100}
          onChange={(e) => setName(e.target.value)}
          className={fieldLook}
          autoFocus
        />
      </Entry>
      <Labels pairs={pairs} onChange={setPairs} />
      <Entry label="Hub" hint="the device that carries it" id="device-hub">
        <input
          id="device-hub"
          value={hub}
          onChange={(e) => setHub(e.target.value)}
          list="device-hubs"
          className={`${fieldLook} font-mono`}
        />
        <datalist id="device-hubs">
          {[...devices.values()]
            .filter((x) => !x.hub && x.id !== d.id)
            .slice(0, 500)
            .map((x) => (
              <option key={x.id} value={x.id}>
                {x.name}
              </option>
            ))}
        </datalist>
      </Entry>
    </Dialog>
  );
}

// NewCredential gives a device another credential, or puts other hardware behind its id.
function NewCredential({
  device: d,
  replace,
  onClose,
}: {
  device: Device;
  replace: boolean;
  onClose: () => void;
}) {
  const [serial, setSerial] = useState("");
  const [keep, setKeep] = useState(false);
  const [credential, setCredential] = useState<"token" | "certificate">("token");
  const [given, setGiven] = useState<Onboarded>();
  if (given)
    return (
      <Dialog
        wide
        title={`New ${credential} of ${called(d)}`}
        verb="Done"
        act={async () => {}}
        onClose={onClose}
      >
        <div className="pb-3">
          <Download given={given} />
        </div>
        <Token given={given} />
      </Dialog>
    );
  const act = async () => {
    const params = { path: { id: d.id } };
    setGiven(
      await ask(
        replace
          ? api.POST("/api/v1/devices/{id}/replace", {
              params,
              body: { serial: serial || undefined, credential },
            })
          : api.POST("/api/v1/devices/{id}/credentials", { params, body: { keep, credential } }),
      ),
    );
    return false; // it is shown in place
  };
  return (
    <Dialog
      title={replace ? `Replace the hardware of ${called(d)}` : `New credential for ${called(d)}`}
      about={
        replace
          ? "Its id, history, labels and settings stay. The hardware that it is now is out at once, and the new one gets a credential of its own."
          : keep
            ? "The ones before work on until they are revoked, or replaced once more."
            : "The ones before stop working at once: the device is cut off until it has the new one."
      }
      verb={replace ? "Replace it" : `Give it a new ${credential}`}
      danger={replace || !keep}
      act={act}
      onClose={onClose}
    >
      <div className="flex gap-5 pb-2">
        {(["token", "certificate"] as const).map((k) => (
          <label key={k} className="flex items-center gap-2">
            <input
              type="radio"
              name="new-credential"
              checked={credential === k}
              onChange={() => setCredential(k)}
            />
            a {k}
          </label>
        ))}
      </div>
      {replace ? (
        <Entry label="Serial of the new hardware" hint="for the journal; may be empty" id="replace-serial">
          <input
            id="replace-serial"
            value={serial}
            onChange={(e) => setSerial(e.target.value)}
            maxLength={200}
            className={`${fieldLook} font-mono`}
          />
        </Entry>
      ) : (
        <label className="flex items-center gap-2">
          <input type="checkbox" checked={keep} onChange={(e) => setKeep(e.target.checked)} />
          Let the old ones work on
        </label>
      )}
    </Dialog>
  );
}

function Retire({
  device: d,
  act,
  onClose,
}: {
  device: Device;
  act: () => Promise<unknown>;
  onClose: () => void;
}) {
  const [typed, setTyped] = useState("");
  const tell = useTell();
  return (
    <Dialog
      title={`Retire ${called(d)}?`}
      about="It is taken out of service for good: it may never connect again, and its id is not given away again. Its history stays."
      verb="Retire it"
      danger
      ready={typed === d.id}
      act={async () => {
        await act();
        tell(`${called(d)} is retired`);
      }}
      onClose={onClose}
    >
      <Entry label="Type its id to go on" hint={<code className="font-mono">{d.id}</code>} id="retire-id">
        <input
          id="retire-id"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
          autoComplete="off"
          className={`${fieldLook} font-mono`}
        />
      </Entry>
    </Dialog>
  );
}
