import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Link } from "react-router";
import { api, ask, type Onboarded } from "../api/client";
import { useFleet } from "../api/live";
import { Entry } from "../components/dialog";
import { fieldLook } from "../components/field";
import { Labels, toLabels, type Pair } from "../components/labels";
import { Token } from "../components/onboarded";
import { Button, Command, Empty, Trouble } from "../components/parts";
import { Vessel } from "../components/vessel";
import { called } from "../lib/format";
import { useParam, useTitle } from "../lib/use";

const idForm = /^[a-z0-9][a-z0-9-]{0,62}$/;

// The Join page onboards one device and stays until it has been heard.
export default function JoinPage() {
  useTitle("Onboard a device");
  const { devices } = useFleet();
  const [wanted] = useParam("model", "");
  const [id, setId] = useState("");
  const [name, setName] = useState("");
  const [model, setModel] = useState(wanted);
  const [hub, setHub] = useState("");
  const [labels, setLabels] = useState<Pair[]>([{ key: "site", value: "" }]);
  const [given, setGiven] = useState<Onboarded>();
  const [trouble, setTrouble] = useState("");
  const [busy, setBusy] = useState(false);
  const models = useQuery({
    queryKey: ["models"],
    queryFn: () => ask(api.GET("/api/v1/models")),
    staleTime: 60_000,
  });
  const submit = async (e: FormEvent) => {
    e.preventDefault();
    setBusy(true);
    setTrouble("");
    try {
      setGiven(
        await ask(
          api.POST("/api/v1/devices", {
            body: {
              id,
              model,
              name: name.trim() || undefined,
              hub: hub || undefined,
              labels: toLabels(labels),
            },
          }),
        ),
      );
    } catch (err) {
      setTrouble((err as Error).message);
    } finally {
      setBusy(false);
    }
  };
  if (given) return <Waiting given={given} onNext={() => (setGiven(undefined), setId(""), setName(""))} />;
  if (models.data?.length === 0)
    return (
      <Empty
        title="There is no model yet"
        why="A device is of a model, which says what it measures."
        next={
          <Link to="/models/new" className="text-press underline">
            Write a model
          </Link>
        }
      />
    );
  const taken = devices.has(id);
  const wrong = id !== "" && !idForm.test(id);
  return (
    <div className="max-w-2xl">
      <h1 className="py-3.5 text-[1.375rem] font-bold">Onboard a device</h1>
      <p className="pb-4 text-muted">
        It gets a token of its own, with which it may connect at once.{" "}
        <Link to="/documents/devices" className="text-press underline">
          What a device sends
        </Link>
      </p>
      <form onSubmit={submit}>
        <Entry
          label="Id"
          hint={
            wrong ? (
              <span className="text-urgent">small letters, digits and hyphens, at most 63</span>
            ) : taken ? (
              <span className="text-urgent">there is a device of that id already</span>
            ) : (
              "stays for its whole life; small letters, digits and hyphens"
            )
          }
          id="join-id"
        >
          <input
            id="join-id"
            value={id}
            onChange={(e) => setId(e.target.value)}
            placeholder={[...devices.keys()].sort().at(-1) ?? "such as probe-01"}
            autoComplete="off"
            spellCheck={false}
            aria-invalid={wrong || taken}
            className={`${fieldLook} font-mono`}
            required
          />
        </Entry>
        <Entry label="Model" id="join-model">
          <select
            id="join-model"
            value={model}
            onChange={(e) => setModel(e.target.value)}
            className={fieldLook}
            required
          >
            <option value="">choose</option>
            {models.data?.map((m) => (
              <option key={m.name} value={m.name}>
                {m.title} – {m.name} {m.version}
              </option>
            ))}
          </select>
        </Entry>
        <Entry label="Name" hint="what people call it, in any script; may be empty" id="join-name">
          <input
            id="join-name"
            value={name}
            onChange={(e) => setName(e.target.value)}
            maxLength={100}
            className={fieldLook}
          />
        </Entry>
        <Labels pairs={labels} onChange={setLabels} />
        <Entry label="Hub" hint="the device that carries it; may be empty" id="join-hub">
          <input
            id="join-hub"
            value={hub}
            onChange={(e) => setHub(e.target.value)}
            list="join-hubs"
            className={`${fieldLook} font-mono`}
          />
          <datalist id="join-hubs">
            {[...devices.values()]
              .filter((d) => !d.hub)
              .slice(0, 500)
              .map((d) => (
                <option key={d.id} value={d.id}>
                  {d.name}
                </option>
              ))}
          </datalist>
        </Entry>
        {trouble && <Trouble>{trouble}</Trouble>}
        <div className="pt-2">
          <Button primary type="submit" disabled={busy || wrong || taken || !id || !model}>
            {busy ? "…" : "Onboard it"}
          </Button>
        </div>
      </form>
      <p className="pt-8 pb-2 text-muted">The same from a terminal:</p>
      <Command>{`ullage device create ${id || "ID"} --model ${model || "MODEL"}${labels
        .filter((l) => l.key && l.value)
        .map((l) => ` --label ${l.key}=${/\s/.test(l.value) ? JSON.stringify(l.value) : l.value}`)
        .join("")}`}</Command>
    </div>
  );
}

// Waiting shows the token, and the device as soon as it is heard.
function Waiting({ given, onNext }: { given: Onboarded; onNext: () => void }) {
  const { devices } = useFleet();
  const d = devices.get(given.id);
  const heard = d !== undefined && d.link !== "never";
  return (
    <div className="max-w-3xl">
      <h1 className="py-3.5 text-[1.375rem] font-bold">{given.id} is onboarded</h1>
      <p role="status" className="flex items-center gap-3 pb-4">
        {d && <Vessel device={d} width={24} badge={false} />}
        {heard ? (
          <span>
            It has been heard.{" "}
            <Link to={`/devices/${given.id}`} className="text-press underline">
              Look at {called(d)}
            </Link>
          </span>
        ) : (
          <span className="text-muted">
            Nothing has come from it yet. What it sends, and why something is refused, is in{" "}
            <Link to={`/traffic?device=${given.id}`} className="text-press underline">
              its traffic
            </Link>
            .
          </span>
        )}
      </p>
      <Token given={given} />
      <div className="pt-6">
        <Button onClick={onNext}>Onboard another one</Button>
      </div>
    </div>
  );
}
