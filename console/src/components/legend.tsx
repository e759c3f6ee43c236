import { Vessel } from "./vessel";
import type { Device, Margin } from "../api/client";
import { say } from "../lib/format";

// sample is a device as the legend needs one.
const sample = (health: Device["health"], headspace?: number) =>
  ({ id: "", health, headspace, alarms: [], reasons: [] }) as unknown as Device;

const glyphs = [
  { device: sample("sound", 0.95), says: "far from its limits" },
  { device: sample("watch", 0.15), says: "near one: headspace under 20 %" },
  { device: sample("poor", 0), says: "at a limit, or an open alarm" },
  { device: sample("dark"), says: "silent" },
  { device: sample("awaited"), says: "never connected yet" },
];

// Legend says how to read the vessels.
export function Legend() {
  return (
    <div className="border-t border-line py-2.5 text-[0.8125rem] text-muted">
      <dl aria-label="How to read the vessels" className="flex flex-wrap items-center gap-x-5 gap-y-2 pb-1.5">
        {glyphs.map((g) => (
          <div key={g.says} className="flex items-center gap-2">
            <dt>
              <Vessel device={g.device} width={16} badge={false} />
            </dt>
            <dd>{g.says}</dd>
          </div>
        ))}
      </dl>
      <p>
        The liquid is what a device has used of its headspace: a full vessel is a device near a limit, not a
        full tank.
      </p>
    </div>
  );
}

// headspaceOf explains a headspace with the formula and the numbers of the case.
export function headspaceOf(m: Margin): string {
  const formula =
    "headspace = (limit − value) / (limit − usual), from 100 % at the usual value to 0 % at the limit";
  if (m.reason) return `${formula}. Here 0 %: ${m.reason}`;
  if (!m.known) return `${formula}. Not known here: there is no usual value yet.`;
  const part = Math.round(m.headspace * 100);
  if (m.headspace <= 0 || m.headspace >= 1)
    return `${formula}. Here ${part} %: the value is ${say(m.value)} and the limit ${say(m.limit)} ${m.display ?? ""}`;
  const usual = m.limit - (m.limit - m.value) / m.headspace;
  const n = (x: number) => say(Math.round(x * 1000) / 1000);
  return `${formula}. Here (${n(m.limit)} − ${n(m.value)}) / (${n(m.limit)} − ${n(usual)}) = ${part} %`;
}
