import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link, useNavigate } from "react-router";
import { api, ask, type Model } from "../api/client";
import { About } from "../components/about";
import { Button, Command, Empty, Head, Trouble } from "../components/parts";
import { plural } from "../lib/format";
import { useParam, useTitle, useTyped } from "../lib/use";
import { May } from "../components/may";

const columns = [
  { key: "name", name: "Model", right: false },
  { key: "version", name: "Newest version", right: true },
  { key: "devices", name: "Devices", right: true },
  { key: "versions", name: "Assigned versions", right: false },
  { key: "other", name: "Reported otherwise", right: true },
  { key: "interval", name: "Reports every", right: true },
  { key: "telemetry", name: "Telemetry", right: true },
  { key: "settings", name: "Settings", right: true },
  { key: "rules", name: "Rules", right: true },
] as const;
type Key = (typeof columns)[number]["key"];

const seconds = (d: string) =>
  [...d.matchAll(/(\d+)(s|min|h|d)/g)].reduce(
    (n, m) => n + Number(m[1]) * { s: 1, min: 60, h: 3600, d: 86400 }[m[2]]!,
    0,
  );

const rank: Record<Key, (m: Model) => string | number> = {
  name: (m) => m.name,
  version: (m) =>
    m.version
      .split(".")
      .map((x) => x.padStart(6, "0"))
      .join(),
  devices: (m) => -m.devices,
  versions: (m) => -m.versions.filter((v) => v.devices > 0).length,
  other: (m) => -m.other,
  interval: (m) => seconds(m.interval),
  telemetry: (m) => -count(m, "telemetry"),
  settings: (m) => -count(m, "setting"),
  rules: (m) => -m.rules.length,
};

const count = (m: Model, role: string) => m.properties.filter((p) => p.role === role).length;

export default function ModelsPage() {
  useTitle("Models");
  const navigate = useNavigate();
  const [sort, setSort] = useParam("sort", "name");
  const [find, setFind] = useTyped("find");
  const models = useQuery({
    queryKey: ["models"],
    queryFn: () => ask(api.GET("/api/v1/models")),
  });
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if (e.key === "n" && !(e.target as HTMLElement).closest("input, textarea, [contenteditable]"))
        navigate("/models/new");
    };
    window.addEventListener("keydown", key);
    return () => window.removeEventListener("keydown", key);
  }, [navigate]);
  const by = rank[(sort as Key) in rank ? (sort as Key) : "name"];
  const shown = (models.data ?? [])
    .filter((m) => `${m.name} ${m.title}`.toLowerCase().includes(find.toLowerCase()))
    .sort((a, b) => (by(a) < by(b) ? -1 : by(a) > by(b) ? 1 : a.name.localeCompare(b.name)));
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 py-3.5">
        <h1 className="text-[1.375rem] font-bold">Models</h1>
        <About document="models" what="models" />
        <p className="text-muted">{models.data && plural(models.data.length, "device type")}</p>
        <div className="ml-auto flex flex-wrap items-center gap-2">
          <input
            type="search"
            aria-label="Find a model"
            placeholder="Find a model"
            value={find}
            onChange={(e) => setFind(e.target.value)}
            className="w-48 rounded-[4px] border border-line bg-surface px-2.5 py-1.5"
          />
          <May role="engineer">
            <Button onClick={() => navigate("/models/new?from=message")}>Paste a message</Button>
            <Button primary onClick={() => navigate("/models/new")}>
              Write a model
            </Button>
          </May>
        </div>
      </div>
      {models.error && <Trouble>{models.error.message}</Trouble>}
      {models.isPending && <p className="text-muted">Loading…</p>}
      {models.data?.length === 0 && (
        <Empty
          title="There is no model yet"
          why="A model says what a kind of device measures and what it can be told. Everything else takes names, units and ranges from it."
          next={<Command>ullage model publish FILE</Command>}
        />
      )}
      {models.data && models.data.length > 0 && shown.length === 0 && (
        <Empty
          title={`No model is called ${find}`}
          next={<Button onClick={() => setFind("")}>Show all</Button>}
        />
      )}
      {shown.length > 0 && (
        <div className="overflow-x-auto border-t border-line" tabIndex={0}>
          <table className="w-full border-collapse">
            <thead>
              <tr className="border-b border-line">
                {columns.map((c) => (
                  <Head
                    key={c.key}
                    right={c.right}
                    sorted={sort === c.key ? "ascending" : undefined}
                    onSort={() => setSort(c.key)}
                  >
                    {c.name}
                  </Head>
                ))}
              </tr>
            </thead>
            <tbody>
              {shown.map((m) => (
                <Row key={m.name} model={m} />
              ))}
            </tbody>
          </table>
        </div>
      )}
    </>
  );
}

function Row({ model: m }: { model: Model }) {
  const cell = "py-2.5 pr-6 text-right last:pr-0";
  return (
    <tr className="border-b border-line align-top hover:bg-surface">
      <td className="py-2.5 pr-6">
        <Link to={`/models/${m.name}`} className="font-semibold">
          {m.title}
        </Link>
        <code className="block font-mono text-[0.8125rem] text-muted">{m.name}</code>
      </td>
      <td className={`${cell} font-mono`}>{m.version}</td>
      <td className={cell}>{m.devices}</td>
      <td className="py-2.5 pr-6">
        <Given model={m} />
      </td>
      <td className={`${cell} ${m.other ? "font-semibold text-watch" : "text-muted"}`}>{m.other || "–"}</td>
      <td className={cell}>{m.interval}</td>
      <td className={cell}>{count(m, "telemetry")}</td>
      <td className={cell}>{count(m, "setting")}</td>
      <td className={`${cell} ${m.rules.length ? "" : "text-watch"}`}>{m.rules.length || "none"}</td>
    </tr>
  );
}

// Given draws how many devices have which version, the newest in ink.
export function Given({ model: m }: { model: Model }) {
  const used = m.versions.filter((v) => v.devices > 0);
  if (used.length === 0) return <span className="text-muted">no device</span>;
  return (
    <span className="grid w-56 gap-1">
      <span className="flex h-1.5 gap-px" aria-hidden="true">
        {used.map((v) => (
          <span
            key={v.version}
            style={{
              flexGrow: v.devices,
              background: v.version === m.versions[0]?.version ? "var(--rim)" : "var(--liquid)",
            }}
          />
        ))}
      </span>
      <span className="flex flex-wrap gap-x-3 text-[0.8125rem] text-muted">
        {used.map((v) => (
          <span key={v.version} className="whitespace-nowrap">
            <b className="font-mono font-normal text-ink">{v.version}</b> {v.devices}
          </span>
        ))}
      </span>
    </span>
  );
}
