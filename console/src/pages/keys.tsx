import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, ask, listed, type Grant, type Key } from "../api/client";
import { Dialog, Entry } from "../components/dialog";
import { fieldLook } from "../components/field";
import { GrantField, Grants } from "../components/grants";
import { useTell } from "../components/notices";
import { StartPath } from "../components/start-field";
import { Absent, Button, Command, Empty, Trouble } from "../components/parts";
import { Sessions } from "../components/sessions";
import { Things, type Column } from "../components/things";
import { absolute, number, plural } from "../lib/format";
import { grantWords } from "../lib/me";
import { useDelayed, useParam, useTitle } from "../lib/use";
import { PeopleHead } from "./people-head";

const used = (k: Key) => (k.used_at ? `${absolute(k.used_at)} from ${k.used_from}` : "never");

const columns: Column<Key>[] = [
  { key: "key", title: "Key", value: (k) => k.key },
  { key: "grant", title: "May", value: grantWords },
  { key: "page", title: "Page", value: (k) => k.page },
  {
    key: "screens",
    title: "Screens",
    value: (k) => k.screens ?? 0,
    cell: (k) => (k.page ? number(k.screens ?? 0) : "–"),
  },
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
            why="A key lets a program read or change what its role and its access allow, or a screen on a wall show one page."
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
  const [letting, setLetting] = useState(false);
  const [paging, setPaging] = useState(false);
  const read = useQuery({
    queryKey: ["keys", "one", name],
    queryFn: () => ask(api.GET("/api/v1/keys/{name}", { params: { path: { name } } })),
    retry: false,
  });
  if (read.error) return <Absent why={read.error.message} to="/keys" all="All keys" />;
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
        <div className="ml-auto flex gap-3 max-sm:ml-0">
          {k.page && <Button onClick={() => setPaging(true)}>Another page</Button>}
          {k.page && (
            <Button primary onClick={() => setLetting(true)}>
              Let a screen in
            </Button>
          )}
          <Button onClick={() => setRemoving(true)} className="!border-urgent !text-urgent">
            Take away
          </Button>
        </div>
      </div>
      <Grants grants={[{ role: k.role, access: k.access }]} reach />
      {k.page && (
        <p className="pt-3">
          For screens, which show{" "}
          <a href={k.page} className="font-mono text-[0.8125rem] text-press hover:underline">
            {k.page}
          </a>{" "}
          and may ask for nothing else. {k.screens ? plural(k.screens, "screen") : "No screen"}{" "}
          {k.screens === 1 || !k.screens ? "is" : "are"} let in.
        </p>
      )}
      <p className="pt-3">
        {!k.page && <>Last used {used(k)}. </>}It holds{" "}
        {k.expires_at ? `until ${absolute(k.expires_at)}` : "always"}.{" "}
        <span className="text-muted">
          Made by {k.made_by} on {k.made_at && absolute(k.made_at)}.
        </span>{" "}
        {!k.page && (
          <Link
            to={`/journal?person=${encodeURIComponent(`key ${k.key}`)}`}
            className="text-press hover:underline"
          >
            What it changed
          </Link>
        )}
      </p>
      {k.page && (
        <section className="pt-6">
          <h2 className="pb-2 font-semibold">Screens</h2>
          <Sessions person={`key ${k.key}`} />
        </section>
      )}
      {letting && <LetIn name={k.key} onClose={() => setLetting(false)} />}
      {paging && <PageDialog k={k} onClose={() => setPaging(false)} />}
      {removing && (
        <Dialog
          title={`Take the key ${k.key} away`}
          about={
            k.page
              ? "Its screens go dark within a second."
              : "Programs that use it are out within a second. What they did stays in the journal."
          }
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

// LetIn lets one screen in: with an address or a code to type there, or with the code
// that it shows.
function LetIn({ name, onClose }: { name: string; onClose: () => void }) {
  const tell = useTell();
  const queries = useQueryClient();
  const [code, setCode] = useState("");
  const made = useQuery({
    queryKey: ["code", name],
    queryFn: () => ask(api.POST("/api/v1/keys/{name}/code", { params: { path: { name } } })),
    staleTime: Infinity,
    gcTime: 0,
  });
  return (
    <Dialog
      title={`Let a screen in for ${name}`}
      verb={code ? "Let it in" : "Done"}
      read={!code}
      onClose={onClose}
      act={async () => {
        if (!code) return true;
        const { from } = await ask(
          api.POST("/api/v1/keys/{name}/screens", { params: { path: { name } }, body: { code } }),
        );
        tell(`The screen at ${from} shows the page of ${name}`);
        await queries.invalidateQueries({ queryKey: ["keys"] });
        return true;
      }}
    >
      <p className="pb-1">Open this address on the screen. It works once, for 15 minutes.</p>
      {made.error ? (
        <Trouble>{made.error.message}</Trouble>
      ) : (
        <Command wrap>{made.data ? window.location.origin + made.data.path : "…"}</Command>
      )}
      <div className="pt-4">
        <Entry
          label="Or type the code that the screen shows"
          hint={`on it, ${window.location.origin}/screen is open`}
          id="screen-code"
        >
          <input
            id="screen-code"
            value={code}
            onChange={(e) => setCode(e.target.value)}
            autoComplete="off"
            placeholder="4F7K-9TZM"
            className={`${fieldLook} font-mono`}
          />
        </Entry>
      </div>
    </Dialog>
  );
}

// PageDialog has screens show another page, and says first what they show more.
function PageDialog({ k, onClose }: { k: Key; onClose: () => void }) {
  const tell = useTell();
  const queries = useQueryClient();
  const [page, setPage] = useState(k.page ?? "");
  const asked = useDelayed(page, 400);
  const put = (to: string, preview: boolean) =>
    ask(
      api.PUT("/api/v1/keys/{name}/page", { params: { path: { name: k.key } }, body: { page: to, preview } }),
    );
  const would = useQuery({
    queryKey: ["page", k.key, asked],
    enabled: asked !== "" && asked !== k.page,
    queryFn: () => put(asked, true),
    retry: false,
  });
  return (
    <Dialog
      title={`Another page for the screens of ${k.key}`}
      verb="Show it"
      ready={page !== "" && page !== k.page && page === asked && Boolean(would.data)}
      onClose={onClose}
      act={async () => {
        await put(page, false);
        await queries.invalidateQueries({ queryKey: ["keys"] });
        tell(`The screens of ${k.key} show another page`, {
          undo: () => put(k.page ?? "", false).then(() => queries.invalidateQueries({ queryKey: ["keys"] })),
        });
      }}
    >
      <StartPath id="key-page" value={page} onChange={setPage} />
      {would.error && <Trouble>{would.error.message}</Trouble>}
      {would.data && page !== k.page && (
        <>
          <p>{would.data.says}</p>
          {would.data.more.length > 0 && (
            <p className="max-h-40 overflow-y-auto pt-1 font-mono text-[0.8125rem] text-muted">
              {would.data.more.join(" ")}
            </p>
          )}
        </>
      )}
    </Dialog>
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
  const [page, setPage] = useState("");
  const [screens, setScreens] = useState(false);
  const [made, setMade] = useState(false);
  if (made) return <LetIn name={name} onClose={onClose} />;
  return (
    <Dialog
      wide
      title={secret ? `The secret of ${name}` : "New key"}
      about={
        secret
          ? "It is shown this once. A program sends it in the Authorization header, behind Bearer."
          : "For a program that calls the API, or for screens that show one page."
      }
      verb={secret ? "Done" : "Make the key"}
      read={secret !== ""}
      ready={name !== "" && right && (!screens || page !== "")}
      onClose={onClose}
      act={async () => {
        if (secret) return true;
        const done = await ask(
          api.POST("/api/v1/keys", {
            body: {
              key: name,
              ...grant,
              ...(screens && { role: "viewer" as const, page }),
              note: note || undefined,
              expires_at: days ? new Date(Date.now() + days * 86_400_000).toISOString() : undefined,
            },
          }),
        );
        await queries.invalidateQueries({ queryKey: ["keys"] });
        if (screens) setMade(true);
        else setSecret(done.secret);
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
            <legend className="pb-1">For</legend>
            <div className="flex flex-wrap gap-x-5">
              <label className="flex gap-1.5">
                <input type="radio" name="key-for" checked={!screens} onChange={() => setScreens(false)} />a
                program
              </label>
              <label className="flex gap-1.5">
                <input type="radio" name="key-for" checked={screens} onChange={() => setScreens(true)} />
                screens on a wall
              </label>
            </div>
          </fieldset>
          {screens && <StartPath id="key-page" value={page} onChange={setPage} />}
          <fieldset className="pb-3">
            <legend className="pb-1">{screens ? "What it may show" : "What it may do"}</legend>
            <GrantField
              id="key-grant"
              value={grant}
              onChange={setGrant}
              onRight={setRight}
              most={screens ? "viewer" : "engineer"}
            />
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
