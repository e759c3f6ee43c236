import { useState } from "react";
import { useFleet } from "../api/live";
import { About } from "../components/about";
import { Button, Choice } from "../components/parts";
import { Where } from "../components/where";
import { TrafficList } from "../components/traffic-list";
import { useDelayed, useParam, useTitle, useTyped } from "../lib/use";
import { May } from "../components/may";
import { SendAs } from "../components/message-as";

// What narrows the list is as quiet as the conditions beside it.
const filterLook = "rounded-[4px] border border-line bg-surface px-2.5 py-1.5";

export default function TrafficPage() {
  useTitle("Traffic");
  const { devices, service } = useFleet();
  const [device, setDevice] = useTyped("device");
  const [refused, setRefused] = useParam("refused", "no");
  const [where, setWhere] = useParam("where", "");
  const [match, setMatch] = useParam("match", "");
  const [text, setText] = useTyped("text");
  const [since, setSince] = useParam("since", "");
  const [until, setUntil] = useParam("until", "");
  const [paused, setPaused] = useState(false);
  const [sending, setSending] = useState(false);
  const searched = useDelayed(text, 300);
  const at = (local: string) =>
    local && !Number.isNaN(Date.parse(local)) ? new Date(local).toISOString() : "";
  const known = device === "" || devices.has(device);
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 py-3.5">
        <h1 className="text-[1.375rem] font-bold">Traffic</h1>
        <About document="devices" what="what devices send" />
        <p className="text-muted">
          raw messages both ways, as they pass
          {service?.refused ? `; ${service.refused} refused since the start` : ""}
        </p>
        <div className="ml-auto flex flex-wrap items-center gap-3">
          <input
            type="search"
            list="devices"
            aria-label="Only of a device"
            placeholder="Only of a device"
            value={device}
            onChange={(e) => setDevice(e.target.value)}
            className={`${filterLook} w-60 font-mono placeholder:font-sans`}
          />
          <datalist id="devices">
            {[...devices.keys()].map((id) => (
              <option key={id} value={id} />
            ))}
          </datalist>
          <Choice
            label="Which"
            value={refused}
            onChange={setRefused}
            options={[
              { value: "no", name: "Everything" },
              { value: "yes", name: "Refused only" },
            ]}
          />
          {known && device !== "" && (
            <May role="engineer" device={device}>
              <Button onClick={() => setSending(true)}>Send as it…</Button>
            </May>
          )}
          <Button onClick={() => setPaused(!paused)} aria-pressed={paused}>
            {paused ? "Resume" : "Pause"}
          </Button>
        </div>
      </div>
      <div className="pb-3">
        <Where
          value={where}
          onChange={setWhere}
          label="Filter messages by a condition on their device"
          placeholder='Only of devices for which this is true, such as device.link == "silent"'
        />
      </div>
      <div className="flex flex-wrap items-start gap-x-4 gap-y-2 pb-3">
        <div className="min-w-64 flex-1">
          <Where
            of="message"
            value={match}
            onChange={setMatch}
            label="Filter messages by a condition on themselves"
            placeholder='Only messages for which this is true, such as topic == "readings" and kept == 0'
          />
        </div>
        <input
          type="search"
          aria-label="Only messages that hold a text"
          placeholder="Only with this text"
          value={text}
          onChange={(e) => setText(e.target.value)}
          className={`${filterLook} w-52`}
        />
        <label className="flex items-center gap-2">
          <span className="text-muted">from</span>
          <input
            type="datetime-local"
            value={since}
            onChange={(e) => setSince(e.target.value)}
            className={`${filterLook} w-52`}
          />
        </label>
        <label className="flex items-center gap-2">
          <span className="text-muted">to</span>
          <input
            type="datetime-local"
            value={until}
            onChange={(e) => setUntil(e.target.value)}
            className={`${filterLook} w-52`}
          />
        </label>
      </div>
      {sending && <SendAs device={device} onClose={() => setSending(false)} />}
      <TrafficList
        match={match}
        text={searched}
        from={at(since)}
        to={at(until)}
        where={where}
        device={known ? device : ""}
        refused={refused === "yes"}
        paused={paused}
        className="border-t border-line"
        key={[known ? device : "", refused, where, match, searched, since, until].join("|")}
      />
    </>
  );
}
