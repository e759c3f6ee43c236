import { useQuery } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { useMemo } from "react";
import { Link, useNavigate } from "react-router";
import { api, ask, type Device, type Model } from "../api/client";
import { CommandMany } from "../components/command-many";
import { ChangeMany } from "../components/change-many";
import { Vessel } from "../components/vessel";
import { absolute, ago, between, plural, say, soon, words } from "../lib/format";
import { byNeed, severityOf } from "../lib/need";
import { useRows } from "../lib/rows";
import { useNow, useParam } from "../lib/use";

// Columns that a list always offers. Beside them there is one for each metric
// and each label of the devices in it, called as in expressions.
const standard: Record<string, string> = {
  site: "Site",
  model: "Model",
  version: "Model version",
  status: "Status",
  link: "Link",
  last: "Last reading",
  headspace: "Headspace",
  limit: "Time to limit",
  settings: "Settings",
  health: "Health",
};
const usualColumns = "site,model,link,last,headspace,health";

const nearest = (d: Device) => d.margins.find((m) => m.to_limit && m.headspace === d.headspace)?.to_limit;

function sortValue(d: Device, key: string): string | number {
  switch (key) {
    case "site":
      return d.labels.site ?? "";
    case "model":
    case "status":
    case "link":
      return d[key];
    case "version": // those that say another come first
      return (d.reported_version ? "0 " : "1 ") + d.model_version;
    case "last":
      return d.last_at ? -Date.parse(d.last_at) : Infinity;
    case "headspace":
    case "limit":
      return d.headspace ?? Infinity;
    case "settings": // those that are not as intended come first
      return d.drifting.length > 0 ? `0 ${d.drifting.join()}` : d.applied < d.revision ? "1" : "2";
    case "health":
      return severityOf(d);
    case "id":
      return d.id;
  }
  if (key.startsWith("label.")) return d.labels[key.slice(6)] ?? "";
  const v = d.latest[key]?.value;
  return typeof v === "number" || typeof v === "string" ? v : v === undefined ? Infinity : Number(v);
}

// What a device does not have stands last, whichever way the list is sorted.
function compareBy(key: string, down: boolean) {
  return (a: Device, b: Device) => {
    const x = sortValue(a, key);
    const y = sortValue(b, key);
    const missing = (v: string | number) => Number(v === Infinity || v === "");
    if (missing(x) || missing(y)) return missing(x) - missing(y) || byNeed(a, b);
    if (typeof x !== typeof y) return typeof x === "number" ? -1 : 1;
    return (x < y ? -1 : x > y ? 1 : 0) * (down ? -1 : 1) || byNeed(a, b);
  };
}

const rightAligned = (key: string) =>
  key === "headspace" || key === "limit" || !(key in standard || key === "id" || key.startsWith("label."));

// List shows devices as a table, with the columns that people choose.
export function List({ devices }: { devices: Device[] }) {
  const [sort, setSort] = useParam("sort", "health");
  const [chosen, setChosen] = useParam("cols", usualColumns);
  const now = useNow(2000);
  const navigate = useNavigate();
  const models = useQuery({
    queryKey: ["models"],
    queryFn: () => ask(api.GET("/api/v1/models")),
    staleTime: 60_000,
  });
  const down = sort.startsWith("-");
  const key = down ? sort.slice(1) : sort;
  const shown = chosen.split(",").filter(Boolean);
  const rows = useMemo(() => [...devices].sort(compareBy(key, down)), [devices, key, down]);
  const { box, long, keys, drawn, before, after } = useRows(rows.length, 34);
  return (
    <div>
      <div className="flex justify-end gap-2 pb-1">
        <CommandMany devices={rows} />
        <ChangeMany devices={rows} />
        <Columns devices={devices} shown={shown} onChange={(c) => setChosen(c.join(",") || "health")} />
      </div>
      <div
        ref={box}
        className={long ? "max-h-[70vh] overflow-auto" : "overflow-x-auto"}
        tabIndex={0}
        role="region"
        aria-label="List of devices"
        onKeyDown={keys}
      >
        <table className="w-full border-collapse">
          <caption className="sr-only">{plural(rows.length, "device")}</caption>
          <thead className="sticky top-0 bg-ground">
            <tr className="text-left text-muted">
              {["id", ...shown].map((c) => (
                <th
                  key={c}
                  scope="col"
                  className={`border-b border-line py-1.5 pr-4 font-normal whitespace-nowrap ${rightAligned(c) ? "text-right" : ""}`}
                  aria-sort={key === c ? (down ? "descending" : "ascending") : undefined}
                >
                  <button
                    type="button"
                    onClick={() => setSort(key === c && !down ? `-${c}` : c)}
                    className="hover:text-ink"
                  >
                    {c === "id" ? "Device" : (standard[c] ?? words(c.replace(/^label\./, "")))}{" "}
                    {key === c ? (down ? "↓" : "↑") : ""}
                  </button>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {before > 0 && <tr style={{ height: before }} />}
            {drawn.map((index) => {
              const d = rows[index];
              return (
                <tr
                  key={d.id}
                  data-index={index}
                  className="cursor-pointer border-b border-line hover:bg-surface"
                  onClick={() => navigate(`/devices/${d.id}`)}
                >
                  <td className="py-1 pr-4 whitespace-nowrap">
                    <Link
                      to={`/devices/${d.id}`}
                      className="flex items-center gap-2.5 font-mono"
                      onClick={(e) => e.stopPropagation()}
                    >
                      <Vessel device={d} width={15} badge={false} />
                      {d.name ? (
                        <>
                          <span className="font-sans">{d.name}</span>
                          <span className="text-muted">{d.id}</span>
                        </>
                      ) : (
                        d.id
                      )}
                    </Link>
                  </td>
                  {shown.map((c) => (
                    <Cell key={c} column={c} device={d} models={models.data} now={now} />
                  ))}
                </tr>
              );
            })}
            {after > 0 && <tr style={{ height: after }} />}
          </tbody>
        </table>
      </div>
    </div>
  );
}

function Cell({
  column: c,
  device: d,
  models,
  now,
}: {
  column: string;
  device: Device;
  models?: Model[];
  now: number;
}) {
  switch (c) {
    case "site":
      return <td className="pr-4 whitespace-nowrap">{d.labels.site}</td>;
    case "model":
    case "status":
      return <td className="pr-4 whitespace-nowrap text-muted">{d[c]}</td>;
    case "version":
      return (
        <td className="pr-4 whitespace-nowrap">
          <span className="font-mono text-muted">{d.model_version}</span>
          {d.reported_version && <b className="ml-2 text-watch">says {d.reported_version}</b>}
        </td>
      );
    case "link":
      return <td className={`pr-4 ${d.link === "silent" ? "font-semibold" : "text-muted"}`}>{d.link}</td>;
    case "last":
      return (
        <td className="pr-4 whitespace-nowrap text-muted" title={d.last_at && absolute(d.last_at)}>
          {ago(d.last_at, now)}
        </td>
      );
    case "headspace":
      return (
        <td className="pr-4 text-right whitespace-nowrap">
          {d.headspace === undefined ? "–" : `${Math.round(d.headspace * 100)} %`}
        </td>
      );
    case "limit": {
      const t = nearest(d);
      return (
        <td className="pr-4 text-right whitespace-nowrap" title={t && between(t)}>
          {t ? `probably ${soon(t.likely)}` : "–"}
        </td>
      );
    }
    case "settings":
      return (
        <td className="max-w-96 truncate pr-4 text-muted">
          {d.drifting.length > 0 ? (
            <>
              <b className="font-mono text-[0.8125rem] text-watch">{d.drifting.join(", ")}</b> not as intended
            </>
          ) : d.applied < d.revision ? (
            "on their way"
          ) : (
            "as intended"
          )}
        </td>
      );
    case "health":
      return (
        <td className="max-w-96 truncate" title={d.reasons.join("; ")}>
          <b
            className={
              d.health === "poor"
                ? "text-poor"
                : d.health === "watch"
                  ? "text-watch"
                  : d.health === "dark"
                    ? ""
                    : "font-normal text-muted"
            }
          >
            {d.health ?? d.status}
          </b>{" "}
          <span className="text-muted">{d.reasons.join("; ")}</span>
        </td>
      );
  }
  if (c.startsWith("label.")) return <td className="pr-4 whitespace-nowrap">{d.labels[c.slice(6)]}</td>;
  const latest = d.latest[c];
  const p = models?.find((m) => m.name === d.model)?.properties.find((x) => x.name === c);
  // What is too old is shown as what it is: of the past.
  const old = latest && d.link === "silent";
  return (
    <td
      className={`pr-4 text-right whitespace-nowrap ${old ? "text-muted italic" : ""}`}
      title={latest && absolute(latest.at)}
    >
      {latest ? say(latest.value, p) : ""}{" "}
      <span className="text-muted">{typeof latest?.value === "number" && p?.display}</span>
    </td>
  );
}

// Columns lets people choose what a list shows; the choice is in the address.
function Columns({
  devices,
  shown,
  onChange,
}: {
  devices: Device[];
  shown: string[];
  onChange: (columns: string[]) => void;
}) {
  const telemetry = [...new Set(devices.flatMap((d) => Object.keys(d.latest)))].sort();
  const labels = [...new Set(devices.flatMap((d) => Object.keys(d.labels)))]
    .filter((l) => l !== "site")
    .sort();
  const offered = [...Object.keys(standard), ...telemetry, ...labels.map((l) => `label.${l}`)];
  const toggle = (c: string, on: boolean) =>
    // Columns stand in the order in which they are offered, health last.
    onChange(
      offered
        .filter((x) => (x === c ? on : shown.includes(x)))
        .sort((a, b) => Number(a === "health") - Number(b === "health")),
    );
  const item =
    "flex cursor-pointer items-center gap-2 px-3 py-1 outline-none data-[highlighted]:bg-ground before:w-3 before:content-[''] data-[state=checked]:before:content-['✓']";
  const group = (title: string, of: string[]) =>
    of.length > 0 && (
      <>
        <DropdownMenu.Label className="px-3 pt-2 pb-0.5 text-muted">{title}</DropdownMenu.Label>
        {of.map((c) => (
          <DropdownMenu.CheckboxItem
            key={c}
            className={item}
            checked={shown.includes(c)}
            onCheckedChange={(on) => toggle(c, on)}
            onSelect={(e) => e.preventDefault()}
          >
            {standard[c] ?? words(c.replace(/^label\./, ""))}
          </DropdownMenu.CheckboxItem>
        ))}
      </>
    );
  return (
    <DropdownMenu.Root modal={false}>
      <DropdownMenu.Trigger className="rounded-[4px] border border-line bg-surface px-2.5 py-1">
        Columns
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={4}
          className="z-40 max-h-[70vh] min-w-48 overflow-auto border border-line bg-surface py-1 shadow-md"
        >
          <DropdownMenu.Item
            className={`${item} text-press`}
            onSelect={() => onChange(usualColumns.split(","))}
          >
            As usual
          </DropdownMenu.Item>
          {group("Of every device", Object.keys(standard))}
          {group("Telemetry", telemetry)}
          {group(
            "Labels",
            labels.map((l) => `label.${l}`),
          )}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
