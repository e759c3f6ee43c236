import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useParams } from "react-router";
import { api, ask, type CommandJob, type GivenCommand } from "../api/client";
import { useDevices } from "../api/live";
import { brief, waits } from "../components/command-input";
import { Dialog } from "../components/dialog";
import { May } from "../components/may";
import { Button, Choice, Trouble } from "../components/parts";
import { Vessel } from "../components/vessel";
import { download, table } from "../lib/csv";
import { absolute, ago, lasting, number, plural, words } from "../lib/format";
import { useRows } from "../lib/rows";
import { useNow, useParam, useTitle } from "../lib/use";

const order = ["failed", "expired", "withdrawn", "waiting", "sent", "done"];

// everyCommand reads all commands of a job, page by page.
async function everyCommand(job: string): Promise<GivenCommand[]> {
  const all: GivenCommand[] = [];
  for (let before: string | undefined; ; before = all[all.length - 1].id) {
    const page = await ask(api.GET("/api/v1/commands", { params: { query: { job, before, limit: 1000 } } }));
    all.push(...page);
    if (page.length < 1000) return all;
  }
}

// CommandJobPage is a command for many devices: how far it is, and what each has replied.
export default function CommandJobPage() {
  const { id = "" } = useParams();
  const now = useNow(2000);
  const job = useQuery({
    queryKey: ["command-jobs", id],
    refetchInterval: (q) => (q.state.data?.ended_at ? 30_000 : 1000),
    queryFn: () => ask(api.GET("/api/v1/command-jobs/{id}", { params: { path: { id } } })),
  });
  const commands = useQuery({
    queryKey: ["command-jobs", id, "commands", job.data?.given, JSON.stringify(job.data?.counts)],
    enabled: Boolean(job.data),
    placeholderData: (was: GivenCommand[] | undefined) => was,
    queryFn: () => everyCommand(id),
  });
  useTitle(job.data ? words(job.data.name) : "Command");
  return (
    <>
      <p className="pt-4 text-muted">
        <Link to="/settings" className="text-press">
          Settings
        </Link>{" "}
        › command for many devices
      </p>
      {job.isPending ? (
        <p className="text-muted">Loading…</p>
      ) : job.error ? (
        <Trouble>{job.error.message}</Trouble>
      ) : (
        <Shown j={job.data} commands={commands.data ?? []} now={now} />
      )}
    </>
  );
}

function Shown({ j, commands, now }: { j: CommandJob; commands: GivenCommand[]; now: number }) {
  const queries = useQueryClient();
  const devices = useDevices();
  const [only, setOnly] = useParam("phase", "all");
  const [asking, setAsking] = useState(false);
  const rows = useMemo(
    () =>
      commands
        .filter((c) => only === "all" || c.phase === only)
        .sort((a, b) => order.indexOf(a.phase) - order.indexOf(b.phase) || a.device.localeCompare(b.device)),
    [commands, only],
  );
  const { box, long, keys, drawn, before, after } = useRows(rows.length, 34);
  const ended = ["done", "failed", "expired", "withdrawn"].reduce((n, p) => n + (j.counts[p] ?? 0), 0);
  const open = !j.ended_at && !j.withdrawn_at;
  const left = j.devices - ended;
  const save = () =>
    download(
      `${j.name}.csv`,
      "text/csv",
      table(
        ["device", "phase", "given", "ended", "output", "error"],
        rows.map((c) => [
          c.device,
          c.phase,
          c.at,
          c.ended_at ?? "",
          c.output === undefined ? "" : JSON.stringify(c.output),
          c.error ?? "",
        ]),
      ),
    );
  return (
    <>
      <div className="flex flex-wrap items-start gap-x-4 gap-y-2 pb-3">
        <div className="min-w-0 flex-1">
          <h1 className="text-xl font-bold">
            {words(j.name)} <span className="text-base font-normal text-muted">{brief(j.input)}</span>
          </h1>
          <p className="text-muted">
            for {plural(j.devices, "device")}
            {j.at_once ? `, at most ${number(j.at_once)} at a time` : ""}, each given up after {j.expires}; by{" "}
            {j.by}, <span title={absolute(j.at ?? "")}>{ago(j.at ?? "", now)}</span>
            {j.withdrawn_at && `; withdrawn by ${j.withdrawn_by} ${ago(j.withdrawn_at, now)}`}
            {j.ended_at && j.at && `; over after ${took(Date.parse(j.ended_at) - Date.parse(j.at))}`}
          </p>
        </div>
        <Button onClick={save} disabled={rows.length === 0}>
          Save as CSV
        </Button>
        {open && (
          <May role="operator" some>
            <Button onClick={() => setAsking(true)}>Withdraw…</Button>
          </May>
        )}
      </div>
      <div
        role="progressbar"
        aria-label="Devices that have come to an end with it"
        aria-valuemin={0}
        aria-valuemax={j.devices}
        aria-valuenow={ended}
        className="flex h-2 overflow-hidden bg-line"
      >
        <Share n={j.counts["done"]} of={j.devices} className="bg-muted" />
        <Share n={j.counts["failed"]} of={j.devices} className="bg-high" />
        <Share n={j.counts["expired"]} of={j.devices} className="bg-watch" />
        <Share n={j.counts["withdrawn"]} of={j.devices} className="bg-low" />
      </div>
      <div className="flex flex-wrap items-center gap-3 py-3">
        <Choice
          label="Phase"
          value={only}
          onChange={setOnly}
          options={["all", ...[...order].reverse()]
            .filter((p) => p === "all" || p === only || j.counts[p])
            .map((p) => ({ value: p, name: p === "all" ? "all" : `${number(j.counts[p] ?? 0)} ${p}` }))}
        />
        {j.devices > j.given && (
          <span className="text-muted">
            {number(j.devices - j.given)} {j.withdrawn_at ? "were not given it" : "come after these"}
          </span>
        )}
      </div>
      {rows.length === 0 ? (
        <p className="py-6 text-muted">
          {only === "all" ? "No device was given it yet." : `No device is ${only}.`}
        </p>
      ) : (
        <div
          ref={box}
          className={long ? "max-h-[70vh] overflow-auto" : "overflow-x-auto"}
          tabIndex={0}
          role="region"
          aria-label="What each device has replied"
          onKeyDown={keys}
        >
          <table className="w-full border-collapse">
            <thead>
              <tr className="border-b border-line text-left text-muted">
                <th className="py-1.5 pr-4 font-normal">device</th>
                <th className="py-1.5 pr-4 font-normal">phase</th>
                <th className="py-1.5 pr-4 text-right font-normal">after</th>
                <th className="py-1.5 font-normal">reply</th>
              </tr>
            </thead>
            <tbody>
              {before > 0 && (
                <tr aria-hidden style={{ height: before }}>
                  <td colSpan={4} />
                </tr>
              )}
              {drawn.map((i) => {
                const c = rows[i];
                const d = devices.get(c.device);
                const bad = c.phase === "failed" || c.phase === "expired" || Boolean(c.error);
                return (
                  <tr key={c.id} data-index={i} className="border-b border-line" data-phase={c.phase}>
                    <td className="py-1 pr-4 whitespace-nowrap">
                      <Link
                        to={`/devices/${c.device}`}
                        className="flex items-center gap-2.5 font-mono hover:text-press"
                      >
                        {d && <Vessel device={d} width={15} badge={false} />}
                        {c.device}
                      </Link>
                    </td>
                    <td className={`py-1 pr-4 ${bad ? "font-semibold text-watch" : ""}`}>{c.phase}</td>
                    <td className="py-1 pr-4 text-right whitespace-nowrap text-muted">
                      {c.ended_at
                        ? took(Date.parse(c.ended_at) - Date.parse(c.at))
                        : waits(c) && c.expires
                          ? `given up ${ago(c.expires, now)}`
                          : ""}
                    </td>
                    <td className="min-w-0 py-1 break-words">{c.error ?? brief(c.output)}</td>
                  </tr>
                );
              })}
              {after > 0 && (
                <tr aria-hidden style={{ height: after }}>
                  <td colSpan={4} />
                </tr>
              )}
            </tbody>
          </table>
        </div>
      )}
      {asking && (
        <Dialog
          title={`Withdraw ${words(j.name)}`}
          about={`${plural(left, "device")} have not replied yet. Those that were given it already may do it all the same.`}
          verb={`Withdraw it for ${plural(left, "device")}`}
          danger
          act={async () => {
            await ask(api.DELETE("/api/v1/command-jobs/{id}", { params: { path: { id: j.id ?? "" } } }));
            await queries.invalidateQueries({ queryKey: ["command-jobs"] });
          }}
          onClose={() => setAsking(false)}
        />
      )}
    </>
  );
}

const took = (ms: number) => (ms < 10_000 ? `${(ms / 1000).toFixed(1)} s` : lasting(ms));

function Share({ n = 0, of, className }: { n?: number; of: number; className: string }) {
  return n > 0 ? <span className={className} style={{ width: `${(100 * n) / of}%` }} /> : null;
}
