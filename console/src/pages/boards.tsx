import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, ask, listed, type Board } from "../api/client";
import { useDevices } from "../api/live";
import { About } from "../components/about";
import { Dialog, Entry } from "../components/dialog";
import { fieldLook } from "../components/field";
import { useMayAll } from "../components/may";
import { Button, Command, Empty, Trouble } from "../components/parts";
import { plural } from "../lib/format";
import { turnsTo } from "../lib/rotation";
import { useTitle } from "../lib/use";

// The Boards page lists the boards that people have made, and those that exist by
// themselves.
export default function BoardsPage() {
  useTitle("Boards");
  const may = useMayAll("engineer");
  const devices = useDevices();
  const [making, setMaking] = useState(false);
  const [turning, setTurning] = useState(false);
  const own = useQuery({ queryKey: ["boards"], queryFn: () => listed(api.GET("/api/v1/boards")) });
  const { sites, models } = useMemo(() => {
    const count = (key: (d: { labels: Record<string, string>; model: string }) => string | undefined) => {
      const by = new Map<string, number>();
      for (const d of devices.values()) {
        const k = d.status === "retired" ? undefined : key(d);
        if (k) by.set(k, (by.get(k) ?? 0) + 1);
      }
      return [...by].sort(([a], [b]) => a.localeCompare(b));
    };
    return { sites: count((d) => d.labels.site), models: count((d) => d.model) };
  }, [devices]);
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 py-3.5">
        <h1 className="text-[1.375rem] font-bold">Boards</h1>
        <About document="boards" what="how boards are made" />
        <p className="text-muted">
          pages of instruments, live · for one question,{" "}
          <Link to="/query" className="text-press underline">
            a query
          </Link>
        </p>
        <span className="ml-auto flex gap-2">
          <Button onClick={() => setTurning(true)}>Show in turn…</Button>
          {may && (
            <Button primary onClick={() => setMaking(true)}>
              New board
            </Button>
          )}
        </span>
      </div>
      <h2 className="pb-1 font-semibold">Made by people</h2>
      {own.isPending ? (
        <p className="text-muted">Loading…</p>
      ) : own.error ? (
        <Trouble>{own.error.message}</Trouble>
      ) : own.data.items.length === 0 ? (
        <Empty
          title="Nobody has made a board yet"
          why="Open one of those below and make it yours, or begin with an empty one."
          next={<Command>ullage board make fleet --name our-fleet</Command>}
        />
      ) : (
        <ul className="border-t border-line">
          {own.data.items.map((b: Board) => (
            <li key={b.board} className="flex flex-wrap gap-x-4 border-b border-line py-2">
              <Link to={`/boards/${b.board}`} className="font-semibold hover:text-press">
                {b.title || b.board}
              </Link>
              <span className="text-muted">
                {plural(b.instruments.length, "instrument")}
                {b.parameters?.length ? `, chosen at the top: ${b.parameters.join(", ")}` : ""}
              </span>
            </li>
          ))}
        </ul>
      )}
      <h2 className="pt-7 font-semibold">There by themselves</h2>
      <p className="pb-2 text-muted">Made from the models: they follow when a model or the fleet changes.</p>
      <div className="grid gap-x-8 gap-y-5 border-t border-line pt-3 sm:grid-cols-3">
        <section aria-label="The whole fleet">
          <h3 className="pb-1 text-muted">The whole</h3>
          <Link to="/boards/made/fleet" className="font-semibold hover:text-press">
            The whole fleet
          </Link>
        </section>
        <section aria-label="Sites">
          <h3 className="pb-1 text-muted">Sites</h3>
          <Made kind="site" names={sites} none="No device has the label site." />
        </section>
        <section aria-label="Models">
          <h3 className="pb-1 text-muted">Models</h3>
          <Made kind="model" names={models} none="No device is onboarded yet." />
        </section>
      </div>
      <p className="pt-4 text-muted">That of a device is on its page, under Board.</p>
      {turning && (
        <InTurn
          boards={[
            ...(own.data?.items ?? []).map((b) => ({ board: b.board, title: b.title || b.board })),
            { board: "made/fleet", title: "The whole fleet" },
            ...sites.map(([name]) => ({ board: `made/site/${encodeURIComponent(name)}`, title: name })),
          ]}
          onClose={() => setTurning(false)}
        />
      )}
      {making && (
        <NewBoard names={own.data?.items.map((b) => b.board) ?? []} onClose={() => setMaking(false)} />
      )}
    </>
  );
}

function Made({ kind, names, none }: { kind: string; names: [string, number][]; none: string }) {
  if (names.length === 0) return <p className="text-muted">{none}</p>;
  return (
    <ul>
      {names.map(([name, n]) => (
        <li key={name} className="flex justify-between gap-3 py-0.5">
          <Link to={`/boards/made/${kind}/${encodeURIComponent(name)}`} className="hover:text-press">
            {name}
          </Link>
          <span className="text-muted">{plural(n, "device")}</span>
        </li>
      ))}
    </ul>
  );
}

// InTurn chooses boards that are shown one after the other.
function InTurn({
  boards,
  onClose,
}: {
  boards: readonly { board: string; title: string }[];
  onClose: () => void;
}) {
  const navigate = useNavigate();
  const [chosen, setChosen] = useState<readonly string[]>([]);
  const [seconds, setSeconds] = useState("20");
  const each = Number(seconds);
  return (
    <Dialog
      title="Show boards in turn"
      about="On a full screen, one after the other, in the order in which they are chosen. The address can be shared."
      verb="Show them"
      ready={chosen.length > 0 && each >= 3 && each <= 3600}
      act={async () => void navigate(turnsTo(chosen.map((board) => ({ board, seconds: Math.round(each) }))))}
      onClose={onClose}
    >
      <ul className="max-h-72 overflow-y-auto border-y border-line">
        {boards.map((b) => (
          <li key={b.board}>
            <label className="flex items-center gap-2.5 py-1">
              <input
                type="checkbox"
                checked={chosen.includes(b.board)}
                onChange={(e) =>
                  setChosen(e.target.checked ? [...chosen, b.board] : chosen.filter((c) => c !== b.board))
                }
              />
              <span className="min-w-0 flex-1">{b.title}</span>
              {chosen.includes(b.board) && <span className="text-muted">{chosen.indexOf(b.board) + 1}</span>}
            </label>
          </li>
        ))}
      </ul>
      <Entry label="Seconds each" hint="3 to 3,600" id="turn-seconds">
        <input
          id="turn-seconds"
          inputMode="numeric"
          value={seconds}
          onChange={(e) => setSeconds(e.target.value)}
          className={`${fieldLook} text-right`}
        />
      </Entry>
    </Dialog>
  );
}

// named turns a title into a name.
export const named = (title: string) =>
  title
    .toLowerCase()
    .normalize("NFD")
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^[^a-z]+|-+$/g, "")
    .slice(0, 63);

// NewBoard makes a board under a title, of another one or empty.
export function NewBoard({ from, names, onClose }: { from?: Board; names?: string[]; onClose: () => void }) {
  const navigate = useNavigate();
  const [title, setTitle] = useState(from?.title ?? "");
  const name = named(title);
  const taken = names?.includes(name);
  return (
    <Dialog
      title={from ? "Make it yours" : "New board"}
      about={
        from
          ? "It becomes a board of its own that can be changed, and does not follow the models any more."
          : "It begins empty; instruments are added to it then."
      }
      verb={from ? "Make it" : "Begin"}
      ready={name !== "" && !taken}
      act={async () => {
        const board: Board = {
          ...(from ?? { instruments: [] }),
          board: name,
          title: title.trim(),
          made: undefined,
        };
        await ask(
          api.PUT("/api/v1/boards/{name}", {
            params: { path: { name }, header: { "If-None-Match": "*" } },
            body: board,
          } as never),
        );
        navigate(`/boards/${name}?change=yes`);
      }}
      onClose={onClose}
    >
      <Entry label="Title" id="board-title" hint={name ? `at /boards/${name}` : undefined}>
        <input
          id="board-title"
          value={title}
          onChange={(e) => setTitle(e.target.value)}
          className={fieldLook}
        />
      </Entry>
      {taken && <Trouble>There is a board {name} already.</Trouble>}
    </Dialog>
  );
}
