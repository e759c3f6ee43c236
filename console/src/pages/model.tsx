import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, ask, type Model } from "../api/client";
import { ModelDoc } from "../components/model-doc";
import { useTell } from "../components/notices";
import { Absent, Button, Command, Trouble } from "../components/parts";
import { Where } from "../components/where";
import { absolute, plural } from "../lib/format";
import { useParam, useTitle } from "../lib/use";
import { Changes } from "../components/changes";
import { Given } from "./models";
import { May, useUnseen } from "../components/may";

export default function ModelPage() {
  const { name = "" } = useParams();
  const [version, setVersion] = useParam("version", "");
  const [moving, setMoving] = useState("");
  const unseen = useUnseen();
  const navigate = useNavigate();
  useTitle(name);
  const at = version ? `${name}@${version}` : name;
  const model = useQuery({
    queryKey: ["model", at],
    queryFn: () => ask(api.GET("/api/v1/models/{name}", { params: { path: { name: at } } })),
    placeholderData: (old) => old,
  });
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if (e.key === "e" && !(e.target as HTMLElement).closest("input, textarea, [contenteditable]"))
        navigate(`/models/${name}/edit`);
    };
    window.addEventListener("keydown", key);
    return () => window.removeEventListener("keydown", key);
  }, [navigate, name]);
  if (model.isPending) return <p className="py-6 text-muted">Loading…</p>;
  if (model.error) return <Absent why={model.error.message} else={unseen} to="/models" all="All models" />;
  const m = model.data;
  const page = (format: string) => `/api/v1/models/${encodeURIComponent(at)}/page?format=${format}`;
  return (
    <>
      <p className="pt-3 text-muted">
        <Link to="/models">Models</Link> › {m.name}
      </p>
      <div className="flex flex-wrap items-end gap-x-4 gap-y-2 pt-1 pb-4">
        <h1 className="text-[1.375rem] leading-tight font-bold">{m.title}</h1>
        <p className="text-muted">
          <b className="font-mono font-normal text-ink">{m.version}</b>
          {m.versions[0]?.version !== m.version && " (not the newest)"}, {plural(m.devices, "device")}, each
          reports every {m.interval}
        </p>
        <div className="ml-auto flex flex-wrap items-center gap-2">
          <a href={page("html")} className="px-1 text-press" download>
            Page for firmware authors
          </a>
          <a href={page("markdown")} className="px-1 text-press" download>
            as Markdown
          </a>
          <May role="engineer">
            <Button onClick={() => navigate(`/models/${m.name}/edit${version ? `?version=${version}` : ""}`)}>
              Change…
            </Button>
          </May>
        </div>
      </div>
      <div className="grid gap-8 lg:grid-cols-[minmax(0,1fr)_19rem]">
        <ModelDoc model={m} />
        <aside className="lg:border-l lg:border-line lg:pl-6">
          <h2 className="text-base font-semibold">Versions</h2>
          <div className="mt-2">
            <Given model={m} />
          </div>
          {m.other > 0 && (
            <p className="mt-2 text-watch">
              {plural(m.other, "device")} {m.other === 1 ? "says it was" : "say they were"} built for another
              version than {m.other === 1 ? "it was" : "they were"} given.{" "}
              <Link
                to={`/?view=list&sort=version&cols=site,model,version,link,health&where=${encodeURIComponent(`device.model == "${m.name}"`)}`}
                className="text-press"
              >
                See them
              </Link>
            </p>
          )}
          {m.versions.map(
            (v) =>
              v.unfit && (
                <p key={v.version} className="mt-2 text-watch">
                  Rules that do not watch the {plural(v.devices, "device")} with {v.version}, because they do
                  not fit it: <span className="text-ink">{v.unfit.join("; ")}</span>
                </p>
              ),
          )}
          <ul className="mt-3">
            {m.versions.map((v) => (
              <li key={v.version} className="flex items-baseline gap-3 border-b border-line py-1.5">
                <button
                  type="button"
                  className={`font-mono ${v.version === m.version ? "font-semibold" : "text-press"}`}
                  aria-current={v.version === m.version}
                  onClick={() => setVersion(v.version === m.versions[0].version ? "" : v.version)}
                >
                  {v.version}
                </button>
                <span className="text-muted" title={absolute(v.loaded_at)}>
                  {v.loaded_at.slice(0, 10)}
                </span>
                <span className="ml-auto whitespace-nowrap">{plural(v.devices, "device")}</span>
                {m.devices > v.devices && (
                  <button type="button" className="text-press" onClick={() => setMoving(v.version)}>
                    move…
                  </button>
                )}
              </li>
            ))}
          </ul>
          <h2 className="mt-6 text-base font-semibold">Try it before there is hardware</h2>
          <div className="mt-2">
            <Command wrap>{`ullage sim --model ${m.name}.tm.json`}</Command>
          </div>
        </aside>
      </div>
      {moving && <MoveDialog model={m} version={moving} onClose={() => setMoving("")} />}
    </>
  );
}

// MoveDialog gives devices another version, after showing which and what is
// different for them.
function MoveDialog({ model: m, version, onClose }: { model: Model; version: string; onClose: () => void }) {
  const [where, setWhere] = useState("");
  const queries = useQueryClient();
  const tell = useTell();
  const request = (preview: boolean) =>
    ask(
      api.POST("/api/v1/models/{name}/move", {
        params: { path: { name: m.name } },
        body: { version, where, preview },
      }),
    );
  const seen = useQuery({
    queryKey: ["move", m.name, version, where],
    queryFn: () => request(true),
    placeholderData: (old) => old,
  });
  const move = useMutation({
    mutationFn: () => request(false),
    onSuccess: async (x) => {
      await queries.invalidateQueries();
      tell(`${plural(x.devices.length, "device")} moved to ${m.name} ${x.version}.`, {
        undo: () =>
          void ask(
            api.POST("/api/v1/device-changes/{id}/undo", { params: { path: { id: x.change ?? "" } } }),
          ).then(() => queries.invalidateQueries()),
      });
      onClose();
    },
  });
  const n = seen.data?.devices.length ?? 0;
  const loses = seen.data?.devices.filter((d) => d.loses.length > 0) ?? [];
  return (
    <Dialog.Root open onOpenChange={(o) => !o && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          tabIndex={-1}
          onOpenAutoFocus={(e) => {
            // The condition would open its list over what is to be read first.
            e.preventDefault();
            (e.currentTarget as HTMLElement).focus();
          }}
          className="fixed top-[8vh] left-1/2 z-50 max-h-[84vh] w-[min(44rem,calc(100vw-2rem))] -translate-x-1/2 overflow-y-auto border border-line bg-surface p-5 shadow-lg"
        >
          <Dialog.Title className="text-base font-semibold">
            Give devices {m.name} {version}
          </Dialog.Title>
          <div className="mt-3">
            <Where
              value={where}
              onChange={setWhere}
              label="Only devices for which this is true"
              placeholder='All of this model, or those for which this is true, such as label.site == "Kilnside"'
            />
          </div>
          {seen.error ? (
            <div className="mt-3">
              <Trouble>{seen.error.message}</Trouble>
            </div>
          ) : (
            <>
              <p className="mt-3 font-semibold">
                {n === 0 ? "No device has to move." : `${plural(n, "device")} will move.`}
              </p>
              <p className="mt-1 max-h-28 overflow-y-auto font-mono text-[0.8125rem] text-muted" tabIndex={0}>
                {seen.data?.devices.map((d) => `${d.device} (${d.from})`).join(", ")}
              </p>
              {loses.length > 0 && (
                <p className="mt-2 text-watch">
                  Taken off, because {version} does not allow them:{" "}
                  {loses.map((d) => `${d.loses.join(", ")} on ${d.device}`).join("; ")}
                </p>
              )}
              <div className="mt-3">
                <Changes changes={seen.data?.changes ?? []} none="Nothing is different for them." />
              </div>
            </>
          )}
          {move.error && <Trouble>{move.error.message}</Trouble>}
          <div className="mt-4 flex justify-end gap-2">
            <Button onClick={onClose}>Leave as it is</Button>
            <Button
              primary
              disabled={n === 0 || move.isPending || !!seen.error}
              onClick={() => move.mutate()}
            >
              {move.isPending ? "Moving…" : `Move ${plural(n, "device")}`}
            </Button>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
