import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, ask, listed, type Grant, type Key } from "../api/client";
import { Dialog, Entry } from "../components/dialog";
import { fieldLook } from "../components/field";
import { GrantField, Grants } from "../components/grants";
import { useTell } from "../components/notices";
import { Button, Command, Empty, Trouble } from "../components/parts";
import { Sessions } from "../components/sessions";
import { Things, type Column } from "../components/things";
import { absolute } from "../lib/format";
import { grantWords } from "../lib/me";
import { useParam, useTitle } from "../lib/use";
import { PeopleHead } from "./people-head";

const used = (k: Key) => (k.used_at ? `${absolute(k.used_at)} from ${k.used_from}` : "never");

const columns: Column<Key>[] = [
  { key: "key", title: "Key", value: (k) => k.key },
  { key: "grant", title: "May", value: grantWords },
  { key: "used_at", title: "Last used", value: (k) => k.used_at, cell: used },
  {
    key: "expires_at",
    title: "Holds until",
    value: (k) => k.expires_at,
    cell: (k) => (k.expires_at ? absolute(k.expires_at) : "always"),
  },
  { key: "note", title: "Note", value: (k) => k.note },
  { key: "made_by", title: "Made by", value: (k) => k.made_by, rare: true },
];

export function KeysPage() {
  useTitle("Keys");
  const [where] = useParam("where", "");
  const [making, setMaking] = useState(false);
  const list = useQuery({
    queryKey: ["keys", where],
    placeholderData: (old) => old,
    queryFn: () => listed(api.GET("/api/v1/keys", { params: { query: { where: where || undefined } } })),
  });
  return (
    <>
      <PeopleHead />
      <Things
        word="key"
        of="key"
        items={list.data?.items ?? []}
        total={list.data?.count}
        columns={columns}
        usual="key"
        name={(k) => k.key}
        to={(k) => `/keys/${k.key}`}
        pending={list.isPending}
        error={list.error}
        retry={list.refetch}
        actions={
          <Button primary onClick={() => setMaking(true)}>
            New key
          </Button>
        }
        card={(k) => (
          <>
            <b>{k.key}</b>
            <span className="ml-2 text-muted">{k.role}</span>
          </>
        )}
        empty={
          <Empty
            title="There are no keys"
            why="A key lets a program read or change what its role and its access allow."
            next={<Command>{"ullage key make nightly-report --role viewer --expires 90d"}</Command>}
          />
        }
      />
      {making && <KeyDialog onClose={() => setMaking(false)} />}
    </>
  );
}

export function KeyPage() {
  const { name = "" } = useParams();
  useTitle(name);
  const tell = useTell();
  const navigate = useNavigate();
  const [removing, setRemoving] = useState(false);
  const read = useQuery({
    queryKey: ["keys", "one", name],
    queryFn: () => ask(api.GET("/api/v1/keys/{name}", { params: { path: { name } } })),
    retry: false,
  });
  if (read.error)
    return (
      <div className="pt-6">
        <Trouble>{read.error.message}</Trouble>
      </div>
    );
  const k = read.data;
  if (!k) return <p className="pt-6 text-muted">Loading…</p>;
  return (
    <>
      <p className="pt-3.5 text-muted">
        <Link to="/keys">Keys</Link> › {k.key}
      </p>
      <div className="flex flex-wrap items-center gap-3 pt-2 pb-3.5">
        <h1 className="text-[1.375rem] font-bold">{k.key}</h1>
        <p className="text-muted">{k.note}</p>
        <Button onClick={() => setRemoving(true)} className="ml-auto !border-urgent !text-urgent max-sm:ml-0">
          Take away
        </Button>
      </div>
      <Grants grants={[{ role: k.role, access: k.access }]} reach />
      <p className="pt-3">
        Last used {used(k)}. It holds {k.expires_at ? `until ${absolute(k.expires_at)}` : "always"}.{" "}
        <span className="text-muted">
          Made by {k.made_by} on {k.made_at && absolute(k.made_at)}.
        </span>{" "}
        <Link
          to={`/journal?person=${encodeURIComponent(`key ${k.key}`)}`}
          className="text-press hover:underline"
        >
          What it changed
        </Link>
      </p>
      {removing && (
        <Dialog
          title={`Take the key ${k.key} away`}
          about="Programs that use it are out within a second. What they did stays in the journal."
          verb="Take away"
          danger
          onClose={() => setRemoving(false)}
          act={async () => {
            await ask(api.DELETE("/api/v1/keys/{name}", { params: { path: { name: k.key } } }));
            tell(`The key ${k.key} is taken away`);
            navigate("/keys");
          }}
        />
      )}
    </>
  );
}

const spans: [name: string, days: number][] = [
  ["30 days", 30],
  ["90 days", 90],
  ["a year", 365],
  ["always", 0],
];

function KeyDialog({ onClose }: { onClose: () => void }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [grant, setGrant] = useState<Grant>({ role: "viewer" });
  const [right, setRight] = useState(true);
  const [days, setDays] = useState(90);
  const [note, setNote] = useState("");
  const [secret, setSecret] = useState("");
  return (
    <Dialog
      wide
      title={secret ? `The secret of ${name}` : "New key"}
      about={
        secret
          ? "It is shown this once. A program sends it in the Authorization header, behind Bearer."
          : "For a program that calls the API or reads its streams."
      }
      verb={secret ? "Done" : "Make the key"}
      read={secret !== ""}
      ready={name !== "" && right}
      onClose={onClose}
      act={async () => {
        if (secret) return true;
        const made = await ask(
          api.POST("/api/v1/keys", {
            body: {
              key: name,
              ...grant,
              note: note || undefined,
              expires_at: days ? new Date(Date.now() + days * 86_400_000).toISOString() : undefined,
            },
          }),
        );
        await queries.invalidateQueries({ queryKey: ["keys"] });
        setSecret(made.secret);
        return false;
      }}
    >
      {secret ? (
        <Command wrap>{secret}</Command>
      ) : (
        <>
          <Entry label="Name" hint="small letters, digits, dots, hyphens" id="key-name">
            <input
              id="key-name"
              value={name}
              onChange={(e) => setName(e.target.value)}
              maxLength={63}
              required
              autoFocus
              autoComplete="off"
              className={fieldLook}
            />
          </Entry>
          <fieldset className="pb-3">
            <legend className="pb-1">What it may do</legend>
            <GrantField id="key-grant" value={grant} onChange={setGrant} onRight={setRight} most="engineer" />
          </fieldset>
          <fieldset className="pb-3">
            <legend className="pb-1">How long it holds</legend>
            <div className="flex flex-wrap gap-x-5">
              {spans.map(([word, n]) => (
                <label key={n} className="flex gap-1.5">
                  <input type="radio" name="key-days" checked={days === n} onChange={() => setDays(n)} />
                  {word}
                </label>
              ))}
            </div>
          </fieldset>
          <Entry label="Note" hint="what it is for, for other people" id="key-note">
            <input
              id="key-note"
              value={note}
              onChange={(e) => setNote(e.target.value)}
              className={fieldLook}
            />
          </Entry>
        </>
      )}
    </Dialog>
  );
}

// SignInsPage lists everybody's sign-ins.
export function SignInsPage() {
  useTitle("Sign-ins");
  return (
    <>
      <PeopleHead />
      <Sessions person="*" />
    </>
  );
}
