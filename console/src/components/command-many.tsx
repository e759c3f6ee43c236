import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";
import { api, ask, type Affordance, type CommandJob, type Device } from "../api/client";
import { ago, number, plural, words } from "../lib/format";
import { useNow } from "../lib/use";
import { brief, Expires, useCommandInput } from "./command-input";
import { Dialog } from "./dialog";
import { fieldLook } from "./field";
import { May } from "./may";
import { Button } from "./parts";

// CommandMany gives a command to the devices that a list shows, and says first who gets it.
export function CommandMany({ devices }: { devices: readonly Device[] }) {
  const [open, setOpen] = useState(false);
  if (devices.length === 0) return null;
  return (
    <May role="operator" some>
      <Button onClick={() => setOpen(true)} className="!px-2.5 !py-1 !font-normal">
        Give a command…
      </Button>
      {open && <Choose devices={devices} onClose={() => setOpen(false)} />}
    </May>
  );
}

// Choose asks which command of those that the models of the devices have.
function Choose({ devices, onClose }: { devices: readonly Device[]; onClose: () => void }) {
  // What the dialog opened with: the list goes on to change behind it.
  const [chosen] = useState(() => devices.map((d) => d.id));
  const [of] = useState(() => new Set(devices.map((d) => d.model)));
  const models = useQuery({ queryKey: ["models"], queryFn: () => ask(api.GET("/api/v1/models")) });
  const actions = (models.data ?? [])
    .filter((m) => of.has(m.name))
    .flatMap((m) => m.actions.map((a) => ({ model: m.name, action: a })));
  const [picked, setPicked] = useState(0);
  const now = actions[Math.min(picked, actions.length - 1)];
  if (!models.data || !now)
    return (
      <Dialog
        title="Give a command"
        about={models.data ? "The models of these devices have no commands." : "Loading…"}
        verb="Close"
        read
        act={async () => true}
        onClose={onClose}
      />
    );
  return (
    <GiveOne
      key={`${now.model} ${now.action.name}`}
      chosen={chosen}
      action={now.action}
      pick={
        <label className="grid grid-cols-[minmax(0,1fr)_14rem] items-center gap-x-4 pb-2">
          <span>
            Command
            <span className="block text-muted">{now.action.description}</span>
          </span>
          <select
            value={String(Math.min(picked, actions.length - 1))}
            onChange={(e) => setPicked(Number(e.target.value))}
            className={fieldLook}
          >
            {actions.map((a, i) => (
              <option key={`${a.model} ${a.action.name}`} value={i}>
                {a.action.title ?? words(a.action.name)}, {a.model}
              </option>
            ))}
          </select>
        </label>
      }
      onClose={onClose}
    />
  );
}

// GiveOne gives one command to devices that were chosen.
export function GiveOne({
  chosen,
  action,
  pick,
  onClose,
}: {
  chosen: string[];
  action: Affordance;
  pick?: ReactNode;
  onClose: () => void;
}) {
  const navigate = useNavigate();
  const { fields, read } = useCommandInput(action);
  const [expires, setExpires] = useState("");
  const [atOnce, setAtOnce] = useState("");
  const [would, setWould] = useState<{ job: CommandJob; asked: string }>();
  const ask1 = async (preview: boolean) => {
    const most = atOnce.trim() === "" ? undefined : Number(atOnce);
    if (most !== undefined && !(Number.isInteger(most) && most > 0))
      throw new Error(`"${atOnce}" is no number of devices; leave it empty for all at once.`);
    const body = {
      devices: chosen,
      name: action.name,
      input: read(),
      expires: expires || undefined,
      at_once: most,
    };
    const asked = JSON.stringify(body);
    const agreed = would && would.asked === asked;
    if (preview && !agreed) {
      setWould({
        job: await ask(api.POST("/api/v1/command-jobs", { body: { ...body, preview: true } })),
        asked,
      });
      return undefined;
    }
    return ask(api.POST("/api/v1/command-jobs", { body: { ...body, tag: would?.job.tag } }));
  };
  const act = async () => {
    const job = await ask1(true);
    if (!job) return false;
    void navigate(`/commands/${job.id}`);
  };
  const again = () => setWould(undefined);
  return (
    <Dialog
      title={`Give a command to ${plural(chosen.length, "device")}`}
      about="Those that the list shows now, as far as their model has it. Each does it once and replies."
      verb={would ? `Give it to ${plural(would.job.devices, "device")}` : "See who gets it"}
      onClose={onClose}
      act={act}
    >
      <div onChange={again}>
        {pick}
        {fields}
        <Expires value={expires} onChange={setExpires} />
        <label className="grid grid-cols-[minmax(0,1fr)_9rem] items-center gap-x-4 border-t border-line py-2">
          <span>
            At most at a time
            <span className="block text-muted">
              devices that have it and have not replied; empty for all at once
            </span>
          </span>
          <input
            inputMode="numeric"
            value={atOnce}
            onChange={(e) => setAtOnce(e.target.value)}
            className={fieldLook}
          />
        </label>
      </div>
      {would && (
        <div role="status" className="border-t border-line pt-2">
          <p>
            <b>{plural(would.job.devices, "device")}</b> would get it
            {would.job.off_line ? `, ${number(would.job.off_line)} of them off line, which come last` : ""}.
          </p>
          <ul>
            {(would.job.left_out ?? []).map((l) => (
              <li key={l.why} className="text-muted">
                {plural(l.devices, "device")} left out: {l.why}.
              </li>
            ))}
          </ul>
        </div>
      )}
    </Dialog>
  );
}

// jobWords says what came of a command for many devices.
export function jobWords(j: CommandJob): string {
  const parts = ["done", "failed", "expired", "withdrawn", "sent", "waiting"]
    .filter((p) => j.counts[p])
    .map((p) => `${number(j.counts[p])} ${p}`);
  const more = j.devices - j.given;
  if (more > 0) parts.push(`${number(more)} ${j.withdrawn_at ? "not given" : "to come"}`);
  return parts.join(", ");
}

// CommandJobs lists the latest commands for many devices.
export function CommandJobs() {
  const now = useNow(5000);
  const all = useQuery({
    queryKey: ["command-jobs"],
    refetchInterval: 5000,
    queryFn: () => ask(api.GET("/api/v1/command-jobs")),
  });
  const list = (all.data ?? []).slice(0, 5);
  if (list.length === 0) return null;
  return (
    <section aria-label="Commands for many devices" className="pt-6">
      <h2 className="pb-1.5 font-semibold">Commands for many devices</h2>
      <ul className="border-t border-line">
        {list.map((j) => (
          <li key={j.id} className="flex flex-wrap gap-x-4 border-b border-line py-1.5">
            <Link to={`/commands/${j.id}`} className="font-semibold hover:text-press">
              {words(j.name)}
            </Link>
            <span className="text-muted">{brief(j.input)}</span>
            <span>{plural(j.devices, "device")}</span>
            <span className={j.counts["failed"] || j.counts["expired"] ? "text-watch" : "text-muted"}>
              {jobWords(j)}
            </span>
            <span className="ml-auto text-muted">
              {j.by}, {ago(j.at ?? "", now)}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
