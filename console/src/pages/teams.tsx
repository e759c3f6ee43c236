import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, ask, listed, tagged, type Grant, type Team } from "../api/client";
import { Dialog, Entry } from "../components/dialog";
import { fieldLook } from "../components/field";
import { Grants, GrantsField } from "../components/grants";
import { Begins, StartField } from "../components/start-field";
import { useTell } from "../components/notices";
import { Absent, Button, Command, Empty } from "../components/parts";
import { Things, type Column } from "../components/things";
import { plural } from "../lib/format";
import { grantWords } from "../lib/me";
import { useParam, useTitle } from "../lib/use";
import { PeopleHead } from "./people-head";

const columns: Column<Team>[] = [
  { key: "team", title: "Team", value: (t) => t.team },
  { key: "people", title: "People", value: (t) => (t.people ?? []).join(", ") },
  { key: "grants", title: "Grants", value: (t) => (t.grants ?? []).map(grantWords).join("; ") },
  { key: "note", title: "Note", value: (t) => t.note },
];

export function TeamsPage() {
  useTitle("Teams");
  const [where] = useParam("where", "");
  const [making, setMaking] = useState(false);
  const list = useQuery({
    queryKey: ["teams", where],
    placeholderData: (old) => old,
    queryFn: () => listed(api.GET("/api/v1/teams", { params: { query: { where: where || undefined } } })),
  });
  return (
    <>
      <PeopleHead />
      <Things
        word="team"
        of="team"
        items={list.data?.items ?? []}
        total={list.data?.count}
        columns={columns}
        usual="team"
        name={(t) => t.team}
        to={(t) => `/teams/${t.team}`}
        pending={list.isPending}
        error={list.error}
        retry={list.refetch}
        actions={
          <Button primary onClick={() => setMaking(true)}>
            New team
          </Button>
        }
        card={(t) => (
          <>
            <b>{t.team}</b>
            <span className="ml-2 text-muted">{plural(t.people?.length ?? 0, "person", "people")}</span>
          </>
        )}
        empty={
          <Empty
            title="There are no teams"
            why="A team gives what it may to its people, such as the people of one customer."
            next={<Command>{"ullage team save cellars people=night-duty"}</Command>}
          />
        }
      />
      {making && <TeamDialog onClose={() => setMaking(false)} />}
    </>
  );
}

export function TeamPage() {
  const { name = "" } = useParams();
  useTitle(name);
  const tell = useTell();
  const navigate = useNavigate();
  const [dialog, setDialog] = useState<"change" | "remove">();
  const read = useQuery({
    queryKey: ["teams", "one", name],
    queryFn: () => tagged(api.GET("/api/v1/teams/{name}", { params: { path: { name } } })),
    retry: false,
  });
  if (read.error) return <Absent why={read.error.message} to="/teams" all="All teams" />;
  if (!read.data) return <p className="pt-6 text-muted">Loading…</p>;
  const t = read.data.value;
  return (
    <>
      <p className="pt-3.5 text-muted">
        <Link to="/teams">Teams</Link> › {t.team}
      </p>
      <div className="flex flex-wrap items-center gap-3 pt-2 pb-3.5">
        <h1 className="text-[1.375rem] font-bold">{t.team}</h1>
        <p className="text-muted">{t.note}</p>
        <div className="ml-auto flex gap-2 max-sm:ml-0">
          <Button onClick={() => setDialog("change")}>Change</Button>
          <Button onClick={() => setDialog("remove")} className="!border-urgent !text-urgent">
            Take away
          </Button>
        </div>
      </div>
      <h2 className="pb-2 font-semibold">What its people may do</h2>
      <Grants grants={t.grants ?? []} reach />
      <Begins start={t.start} />
      <h2 className="pt-5 pb-2 font-semibold">People</h2>
      {t.people?.length ? (
        <ul className="max-w-2xl border-t border-line">
          {t.people.map((p) => (
            <li key={p} className="border-b border-line py-2">
              <Link to={`/people/${p}`} className="text-press hover:underline">
                {p}
              </Link>
            </li>
          ))}
        </ul>
      ) : (
        <p className="text-muted">Nobody yet.</p>
      )}
      {dialog === "change" && (
        <TeamDialog team={t} tag={read.data.tag} onClose={() => setDialog(undefined)} />
      )}
      {dialog === "remove" && (
        <Dialog
          title={`Take the team ${t.team} away`}
          about="Its people lose what it granted, at once and also on pages that they have open. The people stay."
          verb="Take away"
          danger
          onClose={() => setDialog(undefined)}
          act={async () => {
            await ask(api.DELETE("/api/v1/teams/{name}", { params: { path: { name: t.team } } }));
            tell(`The team ${t.team} is taken away`);
            navigate("/teams");
          }}
        />
      )}
    </>
  );
}

function TeamDialog({ team, tag, onClose }: { team?: Team; tag?: string; onClose: () => void }) {
  const queries = useQueryClient();
  const tell = useTell();
  const [name, setName] = useState(team?.team ?? "");
  const [grants, setGrants] = useState<Grant[]>(team?.grants ?? []);
  const [people, setPeople] = useState<string[]>(team?.people ?? []);
  const [note, setNote] = useState(team?.note ?? "");
  const [start, setStart] = useState(team?.start);
  const [right, setRight] = useState(true);
  const everybody = useQuery({
    queryKey: ["people", ""],
    queryFn: () => listed(api.GET("/api/v1/people", { params: { query: {} } })),
  });
  return (
    <Dialog
      wide
      title={team ? `Change the team ${team.team}` : "New team"}
      about="It is in force at once, also on pages that its people have open."
      verb="Save"
      ready={name !== "" && right}
      onClose={onClose}
      act={async () => {
        await ask(
          api.PUT("/api/v1/teams/{name}", {
            params: { path: { name }, header: team ? { "If-Match": tag } : { "If-None-Match": "*" } },
            body: { team: name, grants, people, start, note: note || undefined },
          }),
        );
        await queries.invalidateQueries({ queryKey: ["teams"] });
        await queries.invalidateQueries({ queryKey: ["people"] });
        tell(`The team ${name} is saved`);
      }}
    >
      {!team && (
        <Entry label="Name" hint="small letters, digits, dots, hyphens" id="team-name">
          <input
            id="team-name"
            value={name}
            onChange={(e) => setName(e.target.value)}
            maxLength={63}
            required
            autoFocus
            autoComplete="off"
            className={fieldLook}
          />
        </Entry>
      )}
      <GrantsField value={grants} onChange={setGrants} onRight={setRight} />
      <fieldset className="pb-3">
        <legend className="pb-1">People</legend>
        <div className="flex max-h-40 flex-wrap gap-x-5 gap-y-1 overflow-y-auto">
          {everybody.data?.items.map((p) => (
            <label key={p.person} className="flex gap-1.5">
              <input
                type="checkbox"
                checked={people.includes(p.person)}
                onChange={(e) =>
                  setPeople(e.target.checked ? [...people, p.person] : people.filter((x) => x !== p.person))
                }
              />
              {p.person}
            </label>
          ))}
        </div>
      </fieldset>
      <StartField value={start} onChange={setStart} />
      <Entry label="Note" hint="what it is for, for other people" id="team-note">
        <input id="team-note" value={note} onChange={(e) => setNote(e.target.value)} className={fieldLook} />
      </Entry>
    </Dialog>
  );
}
