import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, ask, listed, tagged, type Grant, type Person } from "../api/client";
import { Dialog, Entry } from "../components/dialog";
import { fieldLook } from "../components/field";
import { Grants, GrantsField } from "../components/grants";
import { useTell } from "../components/notices";
import { Absent, Button, Command, Empty } from "../components/parts";
import { Begins, StartField } from "../components/start-field";
import { Sessions } from "../components/sessions";
import { Things, type Column } from "../components/things";
import { absolute } from "../lib/format";
import { useParam, useTitle } from "../lib/use";
import { PeopleHead } from "./people-head";

const columns: Column<Person>[] = [
  { key: "person", title: "Person", value: (p) => p.person },
  { key: "role", title: "Role", value: (p) => p.role ?? "none" },
  {
    key: "limited",
    title: "For",
    value: (p) => (!p.role ? "" : p.limited ? "some devices" : "all devices"),
  },
  { key: "teams", title: "Teams", value: (p) => (p.teams ?? []).join(", ") },
  {
    key: "sessions",
    title: "Sign-ins",
    right: true,
    value: (p) => p.sessions ?? 0,
    cell: (p) => (p.invited ? <i className="text-muted">invited</i> : (p.sessions ?? 0)),
  },
  {
    key: "joined_at",
    title: "Since",
    value: (p) => p.joined_at,
    cell: (p) => p.joined_at && absolute(p.joined_at),
  },
  { key: "note", title: "Note", value: (p) => p.note },
];

export function PeoplePage() {
  useTitle("People");
  const [where] = useParam("where", "");
  const [inviting, setInviting] = useState(false);
  const list = useQuery({
    queryKey: ["people", where],
    placeholderData: (old) => old,
    queryFn: () => listed(api.GET("/api/v1/people", { params: { query: { where: where || undefined } } })),
  });
  return (
    <>
      <PeopleHead />
      <Things
        word="person"
        words="people"
        of="person"
        items={list.data?.items ?? []}
        total={list.data?.count}
        columns={columns}
        usual="person"
        name={(p) => p.person}
        to={(p) => `/people/${p.person}`}
        pending={list.isPending}
        error={list.error}
        retry={list.refetch}
        actions={
          <Button primary onClick={() => setInviting(true)}>
            Invite somebody
          </Button>
        }
        card={(p) => (
          <>
            <b>{p.person}</b>
            <span className="ml-2 text-muted">
              {p.role ?? "no role"}
              {p.limited && " for some devices"}
              {p.invited && ", invited"}
            </span>
          </>
        )}
        empty={<Empty title="There is nobody" />}
      />
      {inviting && <InviteDialog onClose={() => setInviting(false)} />}
    </>
  );
}

export function PersonPage() {
  const { name = "" } = useParams();
  useTitle(name);
  const tell = useTell();
  const [dialog, setDialog] = useState<"invite" | "change" | "remove" | "factor">();
  const read = useQuery({
    queryKey: ["people", "one", name],
    queryFn: () => tagged(api.GET("/api/v1/people/{name}", { params: { path: { name } } })),
    retry: false,
  });
  const teams = useQuery({
    queryKey: ["teams", ""],
    queryFn: () => listed(api.GET("/api/v1/teams", { params: { query: {} } })),
  });
  if (read.error) return <Absent why={read.error.message} to="/people" all="All people" />;
  if (!read.data) return <p className="pt-6 text-muted">Loading…</p>;
  const p = read.data.value;
  const ofTeams = (teams.data?.items ?? [])
    .filter((t) => t.people?.includes(p.person))
    .flatMap((t) => (t.grants ?? []).map((g) => ({ ...g, team: t.team })));
  const close = () => setDialog(undefined);
  return (
    <>
      <p className="pt-3.5 text-muted">
        <Link to="/people">People</Link> › {p.person}
      </p>
      <div className="flex flex-wrap items-center gap-3 pt-2 pb-3.5">
        <h1 className="text-[1.375rem] font-bold">{p.person}</h1>
        <p className="text-muted">{p.note}</p>
        <div className="ml-auto flex flex-wrap gap-2 max-sm:ml-0">
          <Button onClick={() => setDialog("change")}>Change</Button>
          <Button onClick={() => setDialog("invite")}>{p.invited ? "New link" : "Another password"}</Button>
          {p.second_factor && <Button onClick={() => setDialog("factor")}>Second factor off</Button>}
          <Button onClick={() => setDialog("remove")} className="!border-urgent !text-urgent">
            Take away
          </Button>
        </div>
      </div>
      {p.invited && (
        <p className="pb-3">Has not chosen a password yet; the link that does that is made with New link.</p>
      )}
      <h2 className="pb-2 font-semibold">What they may do</h2>
      <Grants grants={[...(p.grants ?? []), ...ofTeams]} reach />
      <Begins start={p.start} />
      <p className="pt-2 pb-5">
        <Link to={`/journal?person=${p.person}`} className="text-press hover:underline">
          What they did
        </Link>
      </p>
      <h2 className="pb-2 font-semibold">Sign-ins</h2>
      <Sessions person={p.person} />
      {dialog === "invite" && <InviteDialog person={p} onClose={close} />}
      {dialog === "change" && <ChangeDialog person={p} tag={read.data.tag} onClose={close} />}
      {dialog === "factor" && (
        <Dialog
          title={`Take the second factor of ${p.person} off`}
          about="For a phone that is lost. They are signed out, and get in with their password alone until they set up another."
          verb="Take it off"
          danger
          onClose={close}
          act={async () => {
            await ask(
              api.DELETE("/api/v1/people/{name}/second-factor", { params: { path: { name: p.person } } }),
            );
            tell(`The second factor of ${p.person} is taken off`);
            await read.refetch();
          }}
        />
      )}
      {dialog === "remove" && (
        <Dialog
          title={`Take ${p.person} away`}
          about="They are signed out everywhere within a second. What they did stays in the journal."
          verb="Take away"
          danger
          onClose={close}
          act={async () => {
            await ask(api.DELETE("/api/v1/people/{name}", { params: { path: { name: p.person } } }));
            tell(`${p.person} is taken away`);
            history.back();
          }}
        />
      )}
    </>
  );
}

// InviteDialog makes the link on which somebody chooses a password, and them first
// if they are new.
function InviteDialog({ person, onClose }: { person?: Person; onClose: () => void }) {
  const queries = useQueryClient();
  const [name, setName] = useState(person?.person ?? "");
  const [grants, setGrants] = useState<Grant[]>([{ role: "viewer" }]);
  const [right, setRight] = useState(true);
  const [note, setNote] = useState("");
  const [link, setLink] = useState<{ path: string; until: string }>();
  const act = async () => {
    if (link) return true;
    if (!person)
      await ask(
        api.PUT("/api/v1/people/{name}", {
          params: { path: { name }, header: { "If-None-Match": "*" } },
          body: { person: name, grants, note: note || undefined },
        }),
      );
    const i = await ask(api.POST("/api/v1/people/{name}/invitation", { params: { path: { name } } }));
    await queries.invalidateQueries({ queryKey: ["people"] });
    setLink({ path: location.origin + i.path, until: i.expires_at });
    return false;
  };
  return (
    <Dialog
      title={link ? `Give this link to ${name}` : person ? `A link for ${name}` : "Invite somebody"}
      about={
        link
          ? `They choose a password on it. It may be used once, until ${absolute(link.until)}, and is not shown again.`
          : person && !person.invited
            ? "They choose another password on it; theirs holds until then."
            : "You get a link to give to them, on which they choose a password."
      }
      verb={link ? "Done" : "Make the link"}
      wide={!person && !link}
      read={Boolean(link)}
      ready={name !== "" && right}
      act={act}
      onClose={onClose}
    >
      {link ? (
        <Command wrap>{link.path}</Command>
      ) : (
        !person && (
          <>
            <Entry label="Name" hint="to sign in with: small letters, digits, dots, hyphens" id="person-name">
              <input
                id="person-name"
                value={name}
                onChange={(e) => setName(e.target.value)}
                maxLength={63}
                required
                autoFocus
                autoComplete="off"
                className={fieldLook}
              />
            </Entry>
            <GrantsField value={grants} onChange={setGrants} onRight={setRight} />
            <Entry label="Note" hint="who they are, for other people" id="person-note">
              <input
                id="person-note"
                value={note}
                onChange={(e) => setNote(e.target.value)}
                className={fieldLook}
              />
            </Entry>
          </>
        )
      )}
    </Dialog>
  );
}

function ChangeDialog({ person, tag, onClose }: { person: Person; tag: string; onClose: () => void }) {
  const queries = useQueryClient();
  const tell = useTell();
  const [grants, setGrants] = useState<Grant[]>(person.grants ?? []);
  const [right, setRight] = useState(true);
  const [note, setNote] = useState(person.note ?? "");
  const [start, setStart] = useState(person.start);
  return (
    <Dialog
      title={`Change ${person.person}`}
      about="It is in force at once, also on pages that they have open."
      verb="Save"
      wide
      ready={right}
      onClose={onClose}
      act={async () => {
        await ask(
          api.PUT("/api/v1/people/{name}", {
            params: { path: { name: person.person }, header: { "If-Match": tag } },
            body: { person: person.person, grants, start, note: note || undefined },
          }),
        );
        await queries.invalidateQueries({ queryKey: ["people"] });
        tell(`${person.person} is saved`);
      }}
    >
      <GrantsField value={grants} onChange={setGrants} onRight={setRight} />
      <StartField value={start} onChange={setStart} />
      <Entry label="Note" id="person-note">
        <input
          id="person-note"
          value={note}
          onChange={(e) => setNote(e.target.value)}
          className={fieldLook}
        />
      </Entry>
    </Dialog>
  );
}
