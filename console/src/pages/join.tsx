import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Link } from "react-router";
import { api, ask, type Onboarded } from "../api/client";
import { useFleet } from "../api/live";
import { DeviceList } from "../components/device-list";
import { Entry } from "../components/dialog";
import { fieldLook } from "../components/field";
import { Labels, toLabels, type Pair } from "../components/labels";
import { Steps } from "../components/contact";
import { credentialOf, Download, Token } from "../components/onboarded";
import { Button, Command, Empty, Trouble } from "../components/parts";
import { Vessel } from "../components/vessel";
import { called } from "../lib/format";
import { useParam, useTitle } from "../lib/use";
import { JoinKeys } from "./join-keys";
import { JoinLayout } from "./join-layout";

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
  const [credential, setCredential] = useState("token");
  const [csr, setCSR] = useState("");
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
              credential: credential === "token" ? "token" : "certificate",
              ...(credential === "csr" && { csr }),
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
  const [way, setWay] = useParam("way", "one");
  if (way === "list")
    return (
      <JoinLayout way={way} onWay={setWay}>
        <DeviceList />
      </JoinLayout>
    );
  if (way === "batch")
    return (
      <JoinLayout way={way} onWay={setWay}>
        <JoinKeys />
      </JoinLayout>
    );
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
    <JoinLayout way={way} onWay={setWay}>
      <form onSubmit={submit} className="max-w-2xl">
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
        <fieldset className="pb-3">
          <legend className="pb-1">By what it is let in</legend>
          {(
            [
              ["token", "a token", "the simplest: a secret in the firmware"],
              ["certificate", "a certificate", "with a key that is made here and given this once"],
              ["csr", "a certificate of its own key", "which never leaves the device"],
            ] as const
          ).map(([value, what, says]) => (
            <label key={value} className="flex gap-2 py-0.5">
              <input
                type="radio"
                name="credential"
                checked={credential === value}
                onChange={() => setCredential(value)}
              />
              <span>
                {what} <span className="text-muted">{says}</span>
              </span>
            </label>
          ))}
        </fieldset>
        {credential === "csr" && (
          <Entry label="Request for the certificate" hint="PKCS #10, in PEM" id="join-csr">
            <textarea
              id="join-csr"
              value={csr}
              onChange={(e) => setCSR(e.target.value)}
              rows={6}
              spellCheck={false}
              placeholder="-----BEGIN CERTIFICATE REQUEST-----"
              className={`${fieldLook} font-mono text-[0.8125rem]`}
              required
            />
          </Entry>
        )}
        {trouble && <Trouble>{trouble}</Trouble>}
        <div className="pt-2">
          <Button primary type="submit" disabled={busy || wrong || taken || !id || !model}>
            {busy ? "…" : "Onboard it"}
          </Button>
        </div>
      </form>
      <p className="pt-8 pb-2 text-muted">The same from a terminal:</p>
      <Command>{`ullage device create ${id || "ID"} --model ${model || "MODEL"}${credential === "token" ? "" : credential === "csr" ? " --csr FILE" : " --cert"}${labels
        .filter((l) => l.key && l.value)
        .map((l) => ` --label ${l.key}=${/\s/.test(l.value) ? JSON.stringify(l.value) : l.value}`)
        .join("")} --out ${id || "ID"}`}</Command>
    </JoinLayout>
  );
}

// Waiting shows the way of the device in, while it happens, and what it needs for that.
function Waiting({ given, onNext }: { given: Onboarded; onNext: () => void }) {
  const { devices } = useFleet();
  const d = devices.get(given.id);
  const heard = d !== undefined && d.link !== "never";
  return (
    <JoinLayout>
      <div className="flex flex-wrap items-center gap-3 border-t border-line pt-3 pb-5">
        {d && <Vessel device={d} width={30} badge={false} />}
        <div>
          <h2 className={`text-[1.1875rem] font-bold ${d?.name ? "" : "font-mono"}`}>
            {d ? called(d) : given.id}
          </h2>
          <p className="text-muted" role="status">
            {given.model} · {credentialOf(given)} ·{" "}
            {heard ? (
              <Link to={`/devices/${given.id}`} className="text-press underline">
                it has been heard; look at it
              </Link>
            ) : (
              "it has not been heard yet"
            )}
          </p>
        </div>
        <span className="ml-auto flex gap-3 max-sm:ml-0">
          <Button onClick={onNext}>Another one</Button>
          <Download given={given} />
        </span>
      </div>
      <Steps device={given.id} />
      <div className="border-t border-line pt-4">
        <Token given={given} />
      </div>
    </JoinLayout>
  );
}
