import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, ask, type Layer, type LayerChange } from "../api/client";
import { Dialog } from "../components/dialog";
import { AtOnce, LayerForm, PreviewList, usePreview } from "../components/layer-form";
import { useMayAll, useMayOwn } from "../components/may";
import { useTell } from "../components/notices";
import { Button, Trouble } from "../components/parts";
import { VersionList } from "../components/version-list";
import { RolloutDialog } from "../components/rollouts";
import { number, plural, say } from "../lib/format";
import { askable, chosenBy, valuesOf } from "../lib/layers";
import { useTitle } from "../lib/use";
import { Convergence } from "./settings";

// LayerPage is one layer: what it gives, what a change would do, how far its devices are,
// and its versions.
export default function LayerPage() {
  const { name = "" } = useParams();
  useTitle(name);
  const layer = useQuery({
    queryKey: ["layers", "one", name],
    queryFn: () => ask(api.GET("/api/v1/layers/{name}", { params: { path: { name } } })),
  });
  return (
    <>
      <p className="pt-4">
        <Link to="/settings" className="text-press">
          Settings
        </Link>
      </p>
      {layer.isPending ? (
        <p className="text-muted">Loading…</p>
      ) : layer.error ? (
        <Trouble>{layer.error.message}</Trouble>
      ) : (
        <Editor key={name} given={layer.data} />
      )}
    </>
  );
}

function Editor({ given }: { given: Layer }) {
  const name = given.layer;
  const may = useMayOwn("engineer", given.author);
  const orders = useMayAll("engineer");
  const tell = useTell();
  const navigate = useNavigate();
  const queries = useQueryClient();
  // What is edited stays whatever becomes of the layer meanwhile; nothing is edited otherwise.
  const [edited, setEdited] = useState<{ layer: Layer; from: Layer }>();
  const layer = edited?.layer ?? given;
  const setLayer = (layer: Layer) => setEdited((was) => ({ layer, from: was?.from ?? given }));
  const [trouble, setTrouble] = useState("");
  const [busy, setBusy] = useState(false);
  const [rolling, setRolling] = useState(false);
  const [atOnce, setAtOnce] = useState(false);
  const [removing, setRemoving] = useState(false);
  const dirty = JSON.stringify(layer) !== JSON.stringify(given);
  const other = edited && JSON.stringify(edited.from) !== JSON.stringify(given);
  if (other && !dirty) setEdited(undefined); // it is in force
  const { preview, pending, error } = usePreview(dirty ? { put: layer } : undefined);
  const status = useQuery({
    queryKey: ["layers", "status", name],
    refetchInterval: 10_000,
    queryFn: () => ask(api.GET("/api/v1/layer-status", { params: { query: { layer: name } } })),
  });
  const change = async (c: LayerChange, said: string, undo?: LayerChange, undone?: string) => {
    setBusy(true);
    setTrouble("");
    try {
      await ask(api.POST("/api/v1/layer-changes", { body: c }));
      await queries.invalidateQueries({ queryKey: ["layers"] });
      setEdited((now) => (now === edited ? undefined : now && { ...now, from: edited?.layer ?? now.from }));
      tell(said, {
        undo: undo ? () => void change(undo, undone ?? "It is as it was.") : undefined,
      });
      return true;
    } catch (e) {
      setTrouble((e as Error).message);
      return false;
    } finally {
      setBusy(false);
    }
  };
  const order = () => queries.getQueryData<{ layer: string }[]>(["layers", "summaries"])?.map((l) => l.layer);
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pb-3">
        <h1 className="text-xl font-bold">{name}</h1>
        <p className="text-muted">{given.why}</p>
        {may && (
          <span className="ml-auto flex gap-2">
            <Button disabled={busy} onClick={() => setRemoving(true)}>
              Remove…
            </Button>
            {dirty && preview && preview.devices > 1 && (
              <Button
                primary={preview.waves}
                disabled={pending || Boolean(error)}
                onClick={() => setRolling(true)}
              >
                Roll out…
              </Button>
            )}
            <Button
              primary={!preview?.waves}
              disabled={!dirty || busy || pending || Boolean(error) || (preview?.waves && !atOnce)}
              onClick={() =>
                void change(
                  { put: layer, preview: preview?.preview, at_once: atOnce },
                  `${name} is saved; ${plural(preview?.devices ?? 0, "device")} get other settings.`,
                  { put: given, at_once: atOnce },
                )
              }
            >
              {dirty && preview ? `Save, changing ${plural(preview.devices, "device")}` : "Save"}
            </Button>
          </span>
        )}
      </div>
      {given.access && (
        <p className="pb-3">
          Made by {given.author}, and for what they reach alone:{" "}
          <code className="font-mono text-[0.8125rem]">{given.access}</code>
        </p>
      )}
      {trouble && <Trouble>{trouble}</Trouble>}
      {other && dirty && (
        <p className="flex flex-wrap items-center gap-3 pb-3">
          {name} was changed since you began; to save yours replaces that.
          <Button onClick={() => setEdited(undefined)}>Take what is in force</Button>
        </p>
      )}
      {dirty && <AtOnce preview={preview} value={atOnce} onChange={setAtOnce} />}
      {removing && (
        <RemoveDialog
          name={name}
          onClose={() => setRemoving(false)}
          act={async (c) => {
            const was = orders ? order() : undefined;
            const back = { put: given, order: was, at_once: true };
            if (await change(c, `The layer ${name} is removed.`, back, `The layer ${name} is back.`))
              navigate("/settings");
          }}
        />
      )}
      {rolling && <RolloutDialog layer={layer} onClose={() => setRolling(false)} />}
      <div className="grid gap-x-8 gap-y-6 lg:grid-cols-[minmax(0,30rem)_minmax(0,1fr)]">
        <section aria-label="What it gives">
          {may ? (
            <LayerForm layer={layer} fresh={false} onChange={setLayer} />
          ) : (
            <dl>
              <dt className="text-muted">Devices</dt>
              <dd className="pb-2 font-mono text-[0.8125rem]">{chosenBy(given) || "all devices"}</dd>
              {valuesOf(given.set).map(([k, v]) => (
                <div key={k} className="flex gap-3 border-t border-line py-1.5">
                  <dt className="font-mono text-[0.8125rem]">{k}</dt>
                  <dd>{v}</dd>
                </div>
              ))}
            </dl>
          )}
        </section>
        <section aria-label="What it does">
          {dirty ? (
            <PreviewList preview={preview} pending={pending} error={error} />
          ) : status.data ? (
            <>
              <p className="pb-2">
                <b>{plural(status.data.scope, "device")}</b>{" "}
                <span className="text-muted">chosen by its target now</span>
                {askable(chosenBy(given)) && status.data.scope > 0 && (
                  <>
                    {" · "}
                    <Link
                      to={`/?where=${encodeURIComponent(chosenBy(given))}`}
                      className="text-press underline"
                    >
                      show them
                    </Link>
                  </>
                )}
              </p>
              <Convergence status={status.data} target={askable(chosenBy(given))} />
              {status.data.values.length > 0 && (
                <table className="mt-4 w-full border-collapse">
                  <thead>
                    <tr className="text-left text-muted">
                      <th scope="col" className="border-b border-line py-1 font-normal">
                        setting
                      </th>
                      <th scope="col" className="border-b border-line py-1 text-right font-normal">
                        value
                      </th>
                      <th scope="col" className="border-b border-line py-1 text-right font-normal">
                        wins on
                      </th>
                      <th scope="col" className="border-b border-line py-1 pl-6 font-normal">
                        loses to
                      </th>
                    </tr>
                  </thead>
                  <tbody>
                    {status.data.values.map((v) => (
                      <tr key={v.setting} className="border-b border-line align-top">
                        <td className="py-1.5 font-mono text-[0.8125rem]">{v.setting}</td>
                        <td className="py-1.5 text-right">
                          {v.value === undefined ? "taken off" : say(v.value)}
                        </td>
                        <td className="py-1.5 text-right">{number(v.wins)}</td>
                        <td className="py-1.5 pl-6 text-muted">
                          {Object.entries(v.loses)
                            .map(([to, n]) => `${to} on ${number(n)}`)
                            .join(", ")}
                        </td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              )}
            </>
          ) : (
            status.error && <Trouble>{status.error.message}</Trouble>
          )}
          <Versions
            name={name}
            take={may ? (l) => setLayer({ ...l, target: l.target || undefined }) : undefined}
          />
        </section>
      </div>
    </>
  );
}

function Versions({ name, take }: { name: string; take?: (l: Layer) => void }) {
  const versions = useQuery({
    queryKey: ["layers", "versions", name],
    queryFn: () => ask(api.GET("/api/v1/layers/{name}/versions", { params: { path: { name } } })),
  });
  if (!versions.data?.length) return null;
  return (
    <>
      <h2 className="pt-6 pb-1 font-semibold">Versions</h2>
      <VersionList versions={versions.data} onTake={take ? (v) => take(v.content as Layer) : undefined} />
    </>
  );
}

function RemoveDialog({
  name,
  act,
  onClose,
}: {
  name: string;
  act: (c: LayerChange) => Promise<void>;
  onClose: () => void;
}) {
  const { preview, pending, error } = usePreview({ remove: name });
  const [atOnce, setAtOnce] = useState(false);
  return (
    <Dialog
      title={`Remove the layer ${name}`}
      about="What stands below it holds again."
      verb={
        preview && preview.devices > 0
          ? `Remove it, changing ${plural(preview.devices, "device")}`
          : "Remove it"
      }
      wide
      danger
      ready={!pending && !error && (atOnce || !preview?.waves)}
      act={() => act({ remove: name, preview: preview?.preview, at_once: atOnce })}
      onClose={onClose}
    >
      <PreviewList preview={preview} pending={pending} error={error} />
      <AtOnce preview={preview} value={atOnce} onChange={setAtOnce} />
    </Dialog>
  );
}
