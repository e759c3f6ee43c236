import { useEffect, useRef, useState, type DragEvent } from "react";
import { api, ask, type BatchPlan } from "../api/client";
import { number, plural } from "../lib/format";
import { useTell } from "./notices";
import { save } from "./onboarded";
import { Button, Command, Trouble } from "./parts";

const perPart = 1000;

// readList has a list looked at; nothing is made of it.
function readList(text: string): Promise<BatchPlan> {
  return ask(
    fetch("/api/v1/devices/list", {
      method: "POST",
      headers: { "Content-Type": "application/octet-stream" },
      body: text,
    }).then(async (response) => {
      const said = await response.json();
      return response.ok ? { data: said as BatchPlan, response } : { error: said as unknown, response };
    }),
  );
}

// DeviceList onboards the devices of a file that is dropped or chosen: what is wrong is
// shown line by line first, and nothing is made before somebody says so.
export function DeviceList() {
  const tell = useTell();
  const choose = useRef<HTMLInputElement>(null);
  const [file, setFile] = useState("");
  const [plan, setPlan] = useState<BatchPlan>();
  const [skip, setSkip] = useState(false);
  const [credential, setCredential] = useState<"token" | "certificate">("token");
  const [trouble, setTrouble] = useState("");
  const [over, setOver] = useState(false);
  const [done, setDone] = useState<number>();
  const [bundles, setBundles] = useState<{ name: string; data: string; devices: number; saved: boolean }[]>(
    [],
  );
  const busy = done !== undefined && plan !== undefined && done < plan.devices.length && !trouble;
  const unsaved = bundles.some((b) => !b.saved);
  // What is in the bundles is given this once.
  useEffect(() => {
    if (!unsaved && !busy) return;
    const ask = (e: BeforeUnloadEvent) => e.preventDefault();
    window.addEventListener("beforeunload", ask);
    return () => window.removeEventListener("beforeunload", ask);
  }, [unsaved, busy]);
  const take = async (f: File | undefined) => {
    if (!f) return;
    setTrouble("");
    setPlan(undefined);
    setDone(undefined);
    setFile(f.name);
    try {
      if (f.size > 16 << 20) throw new Error("The list has more than 16 MB. Cut it into several.");
      setPlan(await readList(await f.text()));
    } catch (e) {
      setTrouble((e as Error).message);
    }
  };
  const drop = (e: DragEvent) => {
    e.preventDefault();
    setOver(false);
    void take(e.dataTransfer.files[0]);
  };
  const make = async () => {
    if (!plan) return;
    setTrouble("");
    let from = done ?? 0;
    setDone(from);
    try {
      while (from < plan.devices.length) {
        const part = plan.devices
          .slice(from, from + perPart)
          .map((d) => (d.credential ? d : { ...d, credential }));
        const made = await ask(api.POST("/api/v1/devices/batch", { body: { devices: part } }));
        if (typeof made === "string") throw new Error("The service answered with something else than JSON.");
        const name = `${file.replace(/\.[^.]*$/, "")}-${Math.floor(from / perPart) + 1}.zip`;
        setBundles((all) => [...all, { name, data: made.bundles, devices: part.length, saved: false }]);
        from += part.length;
        setDone(from);
      }
      tell(`${plural(from, "device")} onboarded; save their bundles`);
    } catch (e) {
      setTrouble(`${(e as Error).message} ${plural(from, "device")} of the list were made before.`);
    }
  };
  const models = new Map<string, number>();
  for (const d of plan?.devices ?? []) models.set(d.model, (models.get(d.model) ?? 0) + 1);
  return (
    <div className="max-w-3xl">
      <div
        onDragOver={(e) => (e.preventDefault(), setOver(true))}
        onDragLeave={() => setOver(false)}
        onDrop={drop}
        className={`border border-dashed px-5 py-8 text-center ${over ? "border-press bg-surface" : "border-muted"}`}
      >
        <p className="pb-3">
          Drop a list here, CSV or JSON Lines
          {file && (
            <>
              ; this is <b>{file}</b>
            </>
          )}
        </p>
        <Button onClick={() => choose.current?.click()}>Choose a file…</Button>
        <input
          ref={choose}
          type="file"
          accept=".csv,.jsonl,.ndjson,.txt,text/csv"
          aria-label="List of devices"
          className="sr-only"
          tabIndex={-1}
          onChange={(e) => (void take(e.target.files?.[0]), (e.target.value = ""))}
        />
        <p className="pt-3 text-muted">
          Columns id, model, name, hub, credential and label.NAME, in any order. Nothing is made before you
          say so.
        </p>
      </div>
      {trouble && (
        <div className="pt-4">
          <Trouble>{trouble}</Trouble>
        </div>
      )}
      {plan && (
        <section className="pt-5" data-testid="plan">
          <p role="status">
            <b>{plural(plan.devices.length, "device")}</b> can be onboarded
            {[...models].map(([m, n]) => `, ${number(n)} of ${m}`)}
            {plan.bad > 0 && (
              <>
                ; <b className="text-urgent">{plural(plan.bad, "line")} wrong</b>
              </>
            )}
            .
          </p>
          {plan.findings.length > 0 && (
            <table className="mt-3 w-full border-collapse">
              <thead>
                <tr className="border-b border-line text-left text-muted">
                  <th scope="col" className="w-16 py-1 text-right font-normal">
                    line
                  </th>
                  <th scope="col" className="py-1 pl-4 font-normal">
                    what is wrong
                  </th>
                </tr>
              </thead>
              <tbody>
                {plan.findings.slice(0, 50).map((f, i) => (
                  <tr key={i} className="border-b border-line align-top">
                    <td className="py-1 text-right">{f.line}</td>
                    <td className="py-1 pl-4 break-words">{f.sentence}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          {plan.bad > Math.min(plan.findings.length, 50) && (
            <p className="pt-1 text-muted">
              and {number(plan.bad - Math.min(plan.findings.length, 50))} more
            </p>
          )}
          <div className="flex flex-wrap items-center gap-x-6 gap-y-2 pt-4">
            {(["token", "certificate"] as const).map((k) => (
              <label key={k} className="flex gap-1.5">
                <input
                  type="radio"
                  name="list-credential"
                  checked={credential === k}
                  disabled={done !== undefined}
                  onChange={() => setCredential(k)}
                />
                a {k} each, where the list says nothing
              </label>
            ))}
            {plan.bad > 0 && (
              <label className="flex gap-1.5">
                <input type="checkbox" checked={skip} onChange={(e) => setSkip(e.target.checked)} />
                leave out what is wrong
              </label>
            )}
          </div>
          <div className="flex flex-wrap items-center gap-4 pt-4">
            {done === undefined || (trouble && done < plan.devices.length) ? (
              <Button
                primary
                disabled={plan.devices.length === 0 || (plan.bad > 0 && !skip)}
                onClick={() => void make()}
              >
                {done ? "Go on" : `Onboard ${plural(plan.devices.length, "device")}`}
              </Button>
            ) : (
              <p role="status">
                {number(done)} of {number(plan.devices.length)}
                <progress
                  className="ml-3 align-middle"
                  aria-label="Devices onboarded"
                  max={plan.devices.length}
                  value={done}
                />
              </p>
            )}
            {bundles.map((b, i) => (
              <Button
                key={b.name + i}
                onClick={() => {
                  save(b.name, b.data);
                  setBundles((all) => all.map((x, k) => (k === i ? { ...x, saved: true } : x)));
                }}
              >
                {b.saved ? "Saved: " : "Save "}
                {b.name} ({number(b.devices)})
              </Button>
            ))}
          </div>
          {unsaved && (
            <p className="pt-2 text-muted">
              The credentials in the bundles are given this once and kept nowhere: save them before you leave.
            </p>
          )}
        </section>
      )}
      <p className="pt-8 pb-2 text-muted">
        The same from a terminal, which goes on where it was interrupted:
      </p>
      <Command>{`ullage device load ${file || "FILE"}${credential === "certificate" ? " --cert" : ""}${skip ? " --skip-bad" : ""}`}</Command>
    </div>
  );
}
