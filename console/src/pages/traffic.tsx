import { useState } from "react";
import { useFleet } from "../api/live";
import { About } from "../components/about";
import { Button, Choice } from "../components/parts";
import { Where } from "../components/where";
import { TrafficList } from "../components/traffic-list";
import { useParam, useTitle } from "../lib/use";

export default function TrafficPage() {
  useTitle("Traffic");
  const { devices, service } = useFleet();
  const [device, setDevice] = useParam("device", "");
  const [refused, setRefused] = useParam("refused", "no");
  const [where, setWhere] = useParam("where", "");
  const [paused, setPaused] = useState(false);
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
            className="w-60 rounded-[4px] border border-line bg-surface px-2.5 py-1 font-mono"
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
      <TrafficList
        where={where}
        device={known ? device : ""}
        refused={refused === "yes"}
        paused={paused}
        className="border-t border-line"
        key={(known ? device : "") + refused + where}
      />
    </>
  );
}
