import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, ask, listed, type JoinKey } from "../api/client";
import { Dialog, Entry } from "../components/dialog";
import { fieldLook } from "../components/field";
import { Labels, toLabels, type Pair } from "../components/labels";
import { Button, Command, Empty } from "../components/parts";
import { Things, type Column } from "../components/things";
import { number, soonest } from "../lib/format";
import { useParam } from "../lib/use";

// until tells how long a key holds.
export const until = (k: JoinKey) =>
  k.revoked_at ? `revoked on ${soonest(k.revoked_at)}` : `until ${soonest(k.expires_at)}`;

export const approvalOf = (k: JoinKey) =>
  k.approval === "none" ? "come in by themselves" : "a person lets each in";

const columns: Column<JoinKey>[] = [
  { key: "join_key", title: "Join key", value: (k) => k.join_key },
  { key: "model", title: "Model", value: (k) => k.model },
  {
    key: "joined",
    title: "Joined",
    value: (k) => k.joined,
    cell: (k) => `${number(k.joined)} of ${number(k.cap)}`,
    right: true,
  },
  {
    key: "waiting",
    title: "Wait",
    value: (k) => k.waiting,
    cell: (k) => (k.waiting ? <b>{number(k.waiting)}</b> : "–"),
    right: true,
  },
  { key: "approval", title: "Devices", value: (k) => k.approval, cell: approvalOf },
  { key: "expires_at", title: "Holds", value: (k) => k.expires_at, cell: until },
  {
    key: "listed",
    title: "Serials",
    value: (k) => k.listed ?? 0,
    cell: (k) => (k.listed ? number(k.listed) : "any"),
    right: true,
    rare: true,
  },
  { key: "note", title: "Note", value: (k) => k.note, rare: true },
  { key: "made_by", title: "Made by", value: (k) => k.made_by, rare: true },
];

const example = "ullage join-key make fennimore-pallet --model tank-probe --cap 40 --expires 30d";

// JoinKeys lists the keys with which devices join by themselves.
export function JoinKeys() {
  const [where] = useParam("where", "");
  const [making, setMaking] = useState(false);
  const list = useQuery({
    queryKey: ["join-keys", where],
    placeholderData: (old) => old,
    refetchInterval: 10_000,
    queryFn: () => listed(api.GET("/api/v1/join-keys", { params: { query: { where: where || undefined } } })),
  });
  return (
    <>
      <p className="max-w-3xl pb-4 text-muted">
        A join key is the secret of a batch. Each device of it joins by itself with the secret of its serial,
        from a label or its factory, and gets a credential of its own.
      </p>
      <Things
        word="join key"
        of="join-key"
        items={list.data?.items ?? []}
        total={list.data?.count}
        columns={columns}
        usual="join_key"
        name={(k) => k.join_key}
        to={(k) => `/join/keys/${k.join_key}`}
        pending={list.isPending}
        error={list.error}
        retry={list.refetch}
        actions={
          <Button primary onClick={() => setMaking(true)}>
            New join key
          </Button>
        }
        card={(k) => (
          <>
            <b>{k.join_key}</b>
            <span className="float-right text-muted">
              {number(k.joined)} of {number(k.cap)}
            </span>
            <span className="block text-muted">
              {k.model}, {until(k)}
              {k.waiting > 0 && `, ${number(k.waiting)} wait`}
            </span>
          </>
        )}
        empty={
          <Empty
            title="There is no join key"
            why="With one, a pallet of devices joins by itself, each with a secret of its own."
            next={<Command>{example}</Command>}
          />
        }
      />
      {making && <JoinKeyDialog onClose={() => setMaking(false)} />}
    </>
  );
}

const days = 86_400_000;

// toSerials reads what was typed or pasted: a serial a line, or a column of a spreadsheet.
const toSerials = (text: string) =>
  text
    .split("\n")
    .map((l) =>
      l
        .split(/[,;\t]/)[0]
        .trim()
        .replace(/^"|"$/g, ""),
    )
    .filter((s, i) => s !== "" && !(i === 0 && s.toLowerCase() === "serial"));

// JoinKeyDialog makes a key, or changes one.
export function JoinKeyDialog({ old, onClose }: { old?: JoinKey; onClose: () => void }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [name, setName] = useState(old?.join_key ?? "");
  const [model, setModel] = useState(old?.model ?? "");
  const [device, setDevice] = useState(old?.device ?? "");
  const [labels, setLabels] = useState<Pair[]>(
    old
      ? Object.entries(old.labels ?? {}).map(([key, value]) => ({ key, value }))
      : [{ key: "site", value: "" }],
  );
  const [cap, setCap] = useState(String(old?.cap ?? 40));
  const [ends, setEnds] = useState(() =>
    (old?.expires_at ?? new Date(Date.now() + 30 * days).toISOString()).slice(0, 10),
  );
  const [approval, setApproval] = useState<"person" | "none">(old?.approval === "none" ? "none" : "person");
  const [serials, setSerials] = useState((old?.serials ?? []).join("\n"));
  const [note, setNote] = useState(old?.note ?? "");
  const models = useQuery({
    queryKey: ["models"],
    queryFn: () => ask(api.GET("/api/v1/models")),
    staleTime: 60_000,
  });
  const listedSerials = toSerials(serials);
  const act = async () => {
    const body: JoinKey = {
      join_key: name,
      model,
      device: device || undefined,
      labels: toLabels(labels),
      cap: Number(cap),
      expires_at:
        old && old.expires_at.slice(0, 10) === ends
          ? old.expires_at
          : new Date(`${ends}T23:59:59Z`).toISOString(),
      approval,
      serials: listedSerials.length ? listedSerials : undefined,
      note: note || undefined,
    } as JoinKey;
    if (old) {
      await ask(api.PUT("/api/v1/join-keys/{name}", { params: { path: { name } }, body }));
    } else {
      const made = await ask(api.POST("/api/v1/join-keys", { body }));
      navigate(`/join/keys/${name}`, { state: { secret: made.secret } });
    }
    void queries.invalidateQueries({ queryKey: ["join-keys"] });
  };
  return (
    <Dialog
      title={old ? `Change ${old.join_key}` : "New join key"}
      about={old ? "Its secret, and those of its serials, stay." : undefined}
      verb={old ? "Save" : "Make it"}
      ready={name !== "" && model !== "" && Number(cap) > 0 && ends !== ""}
      wide
      onClose={onClose}
      act={act}
    >
      <div className="grid gap-x-5 sm:grid-cols-2">
        {!old && (
          <Entry label="Name" hint="small letters, digits and hyphens" id="join-key-name">
            <input
              id="join-key-name"
              value={name}
              onChange={(e) => setName(e.target.value)}
              placeholder="fennimore-pallet"
              spellCheck={false}
              autoComplete="off"
              className={`${fieldLook} font-mono`}
              required
            />
          </Entry>
        )}
        <Entry label="Model" id="join-key-model">
          <select
            id="join-key-model"
            value={model}
            onChange={(e) => setModel(e.target.value)}
            className={fieldLook}
            required
          >
            <option value="">choose</option>
            {models.data?.map((m) => (
              <option key={m.name} value={m.name}>
                {m.title} – {m.name}
              </option>
            ))}
          </select>
        </Entry>
        <Entry label="At most" hint="devices" id="join-key-cap">
          <input
            id="join-key-cap"
            type="number"
            min={1}
            max={100000}
            value={cap}
            onChange={(e) => setCap(e.target.value)}
            className={fieldLook}
            required
          />
        </Entry>
        <Entry label="Until" hint="the end of that day" id="join-key-ends">
          <input
            id="join-key-ends"
            type="date"
            value={ends}
            onChange={(e) => setEnds(e.target.value)}
            className={fieldLook}
            required
          />
        </Entry>
      </div>
      <fieldset className="pb-3">
        <legend className="pb-1">How devices come in</legend>
        {(
          [
            ["person", "a person lets each in", "and sees its serial and address first"],
            ["none", "by themselves", "at once; each needs the secret of its own serial"],
          ] as const
        ).map(([value, what, says]) => (
          <label key={value} className="flex gap-2 py-0.5">
            <input
              type="radio"
              name="approval"
              checked={approval === value}
              onChange={() => setApproval(value)}
            />
            <span>
              {what} <span className="text-muted">{says}</span>
            </span>
          </label>
        ))}
      </fieldset>
      <Entry
        label="Ids of the devices"
        hint={
          <>
            with <code>{"{serial}"}</code>, <code>{"{part1}"}</code>, <code>{"{first3}"}</code>,{" "}
            <code>{"{last4}"}</code>
          </>
        }
        id="join-key-device"
      >
        <input
          id="join-key-device"
          value={device}
          onChange={(e) => setDevice(e.target.value)}
          placeholder="{serial}"
          spellCheck={false}
          className={`${fieldLook} font-mono`}
        />
      </Entry>
      <Labels pairs={labels} onChange={setLabels} />
      <Entry
        label="Serials"
        hint={
          listedSerials.length
            ? `${number(listedSerials.length)} listed; no others may join`
            : "one a line, or a column of a spreadsheet; any may join if it is empty"
        }
        id="join-key-serials"
      >
        <textarea
          id="join-key-serials"
          value={serials}
          onChange={(e) => setSerials(e.target.value)}
          rows={4}
          spellCheck={false}
          className={`${fieldLook} font-mono text-[0.8125rem]`}
        />
      </Entry>
      <Entry label="Note" hint="what it is for; may be empty" id="join-key-note">
        <input
          id="join-key-note"
          value={note}
          onChange={(e) => setNote(e.target.value)}
          maxLength={500}
          className={fieldLook}
        />
      </Entry>
    </Dialog>
  );
}
