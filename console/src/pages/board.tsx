import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, ask, tagged, type Board, type Instrument as Described } from "../api/client";
import { useDevices } from "../api/live";
import { AsOf, AsWas, useAsOf } from "../components/as-of";
import { Dialog } from "../components/dialog";
import { Instrument } from "../components/instruments";
import { useMayAll } from "../components/may";
import { useTell } from "../components/notices";
import { Button, Empty, Trouble } from "../components/parts";
import { VersionList } from "../components/version-list";
import { both, bottom, choices, chosenWhere, metricsOf, type Seen } from "../lib/board";
import { minuteOf, plural } from "../lib/format";
import { MomentContext, useMoment } from "../lib/moment";
import { boardSpans, timesOf } from "../lib/history";
import { useScreen } from "../lib/screen";
import { useNarrow, useNow, useParam, useTitle } from "../lib/use";
import { whenAsked } from "../lib/when-asked";
import { NewBoard } from "./boards";

const BoardGrid = whenAsked(() => import("../components/board-grid"), <p className="text-muted">Loading…</p>);
const InstrumentForm = whenAsked(() => import("../components/instrument-form"));

// OwnBoardPage is a board that somebody made.
export function OwnBoardPage() {
  const { name = "" } = useParams();
  return <OwnBoard name={name} />;
}

// OwnBoard is such a board; a bare one has nothing but its instruments.
export function OwnBoard({ name, bare }: { name: string; bare?: boolean }) {
  const board = useQuery({
    queryKey: ["boards", name],
    queryFn: () => tagged(api.GET("/api/v1/boards/{name}", { params: { path: { name } } })),
  });
  const lacks = useQuery({
    queryKey: ["boards", name, "lacks", "models"],
    queryFn: () => ask(api.GET("/api/v1/boards/{name}/lacks", { params: { path: { name } } })),
  });
  if (board.isPending) return <p className="py-6 text-muted">Loading…</p>;
  if (board.error) return <Missing why={board.error.message} />;
  return (
    <Page
      key={name}
      board={board.data.value}
      tag={board.data.tag}
      bare={bare}
      lacks={new Map((lacks.data ?? []).map((l) => [l.instrument, l.sentence]))}
    />
  );
}

// MadeBoardPage is a board that is made from the models.
export function MadeBoardPage() {
  const { kind = "fleet", of = "" } = useParams();
  return <MadeBoard kind={kind} of={of} />;
}

export function MadeBoard({ kind, of, bare }: { kind: string; of: string; bare?: boolean }) {
  const board = useQuery({
    queryKey: ["models", "made-board", kind, of],
    queryFn: () => ask(api.GET("/api/v1/made-board", { params: { query: { kind: kind as "fleet", of } } })),
  });
  if (board.isPending) return <p className="py-6 text-muted">Loading…</p>;
  if (board.error) return <Missing why={board.error.message} />;
  return (
    <Page
      key={JSON.stringify(board.data)}
      board={board.data}
      site={kind === "site" ? of : undefined}
      bare={bare}
    />
  );
}

function Missing({ why }: { why: string }) {
  const screen = useScreen();
  return (
    <Empty
      title="This board cannot be shown"
      why={why}
      next={
        screen ? undefined : (
          <Link to="/boards" className="text-press underline">
            All boards
          </Link>
        )
      }
    />
  );
}

function Page({
  board,
  tag = "",
  lacks,
  site,
  bare,
}: {
  bare?: boolean;
  board: Board;
  tag?: string;
  lacks?: Map<number, string>;
  site?: string;
}) {
  useTitle(board.title || board.board);
  const screen = useScreen();
  const may = useMayAll("engineer");
  const [change, setChange] = useParam("change", "");
  const [full, setFull] = useParam("full", "");
  const [copying, setCopying] = useState(false);
  const [looking, setLooking] = useState(false);
  const changing = change === "yes" && may && !board.made;
  useEffect(() => {
    if (!full) return;
    document.documentElement.dataset.full = "yes";
    const esc = (e: KeyboardEvent) => e.key === "Escape" && setFull("");
    window.addEventListener("keydown", esc);
    return () => {
      delete document.documentElement.dataset.full;
      window.removeEventListener("keydown", esc);
    };
  }, [full, setFull]);
  const { head, printed, seen, asOf, setAsOf } = useHead(board, site);
  const metrics = useMemo(() => metricsOf(board), [board]);
  const { moment, pending, error } = useMoment(asOf, metrics);
  return (
    <div className="board">
      <div className="flex flex-wrap items-center gap-x-3 gap-y-2 py-3">
        <h1 className="min-w-0 text-[1.375rem] font-bold">
          {board.title || board.board}{" "}
          {!screen && !full && !bare && <span className="text-base font-normal text-muted">board</span>}
        </h1>
        {!screen && !bare && (
          <div className="ml-auto flex flex-wrap items-center gap-2 print:hidden">
            {head}
            {!changing && <AsOf at={asOf} what="The board" onChange={setAsOf} />}
            {!changing &&
              (board.made
                ? may && !full && <Button onClick={() => setCopying(true)}>Make it mine…</Button>
                : may &&
                  !full && (
                    <>
                      <Button onClick={() => setLooking(true)}>Versions</Button>
                      <Button onClick={() => setChange("yes")}>Change</Button>
                    </>
                  ))}
            {!changing && (
              <Button
                onClick={() => {
                  if (full) {
                    if (document.fullscreenElement) void document.exitFullscreen();
                    setFull("");
                    return;
                  }
                  setFull("yes");
                  void document.documentElement.requestFullscreen?.().catch(() => undefined);
                }}
              >
                {full ? "Leave full screen" : "Full screen"}
              </Button>
            )}
          </div>
        )}
      </div>
      <p className="hidden text-muted print:block">{printed}</p>
      {asOf > 0 && <AsWas at={asOf} onChange={setAsOf} />}
      {error && asOf > 0 ? (
        <Trouble>{error.message}</Trouble>
      ) : pending ? (
        <p className="text-muted">Looking back…</p>
      ) : changing ? (
        <Editor now={board} tag={tag} seen={seen} lacks={lacks} onDone={() => setChange("")} />
      ) : board.instruments.length === 0 ? (
        <Empty
          title="There is nothing on this board yet"
          why="Instruments are put on it, each with what it shows and of which devices."
          next={
            may && !board.made ? (
              <Button onClick={() => setChange("yes")}>Put something on it</Button>
            ) : undefined
          }
        />
      ) : (
        <MomentContext value={moment}>
          <Grid board={board} seen={seen} lacks={lacks} />
        </MomentContext>
      )}
      {copying && <NewBoard from={board} onClose={() => setCopying(false)} />}
      {looking && <BoardVersions board={board} tag={tag} onClose={() => setLooking(false)} />}
    </div>
  );
}

// BoardVersions lists the versions of a board, and goes back to one.
function BoardVersions({ board, tag, onClose }: { board: Board; tag: string; onClose: () => void }) {
  const tell = useTell();
  const queries = useQueryClient();
  const [taken, setTaken] = useState<Board>();
  const versions = useQuery({
    queryKey: ["boards", "versions", board.board],
    queryFn: () =>
      ask(api.GET("/api/v1/boards/{name}/versions", { params: { path: { name: board.board } } })),
  });
  const save = async (to: Board, from: string) => {
    await ask(
      api.PUT("/api/v1/boards/{name}", {
        params: { path: { name: board.board }, header: { "If-Match": from } },
        body: to,
      }),
    );
    await queries.invalidateQueries({ queryKey: ["boards"] });
  };
  return (
    <Dialog
      title={taken ? "Go back to this version?" : `Versions of ${board.title || board.board}`}
      about={
        taken
          ? `It becomes the newest version, with ${plural(taken.instruments.length, "instrument")}; what is now stays in the list.`
          : undefined
      }
      verb={taken ? "Go back to it" : "Close"}
      act={async () => {
        if (!taken) return;
        await save(taken, tag);
        tell(`${board.title || board.board} is as it was`);
      }}
      onClose={onClose}
    >
      {taken ? null : versions.isPending ? (
        <p className="text-muted">Loading…</p>
      ) : versions.error ? (
        <Trouble>{versions.error.message}</Trouble>
      ) : (
        <VersionList versions={versions.data} onTake={(v) => setTaken(v.content)} />
      )}
    </Dialog>
  );
}

// useHead is what is chosen at the top, kept in the address.
function useHead(board: Board, site?: string) {
  const devices = useDevices();
  const now = useNow(10_000);
  const [chosen, setChosen] = useParam("at", "");
  const [span, setSpan] = useParam("span", board.span || "24h");
  const values = useMemo(() => new URLSearchParams(chosen), [chosen]);
  const parameters = board.parameters ?? [];
  const where = both(
    board.devices,
    chosenWhere(parameters, (p) => values.get(p) ?? ""),
  );
  const [asOf, setAsOf] = useAsOf();
  // A span of a past moment ends there; one that has a name is that of its day, week or month.
  const times = asOf ? { ...timesOf(span, asOf), live: false } : timesOf(span, now);
  const seen: Seen = {
    where,
    times,
    span,
    now: asOf || now,
    asOf: asOf > 0,
    site: values.get("site") ?? site,
  };
  const preset = boardSpans.some((s) => s.value === span);
  const head = (
    <>
      {parameters.map((p) => (
        <label key={p} className="flex items-center gap-1.5 text-muted">
          {p}
          <select
            value={values.get(p) ?? ""}
            onChange={(e) => {
              const next = new URLSearchParams(values);
              if (e.target.value) next.set(p, e.target.value);
              else next.delete(p);
              setChosen(next.toString());
            }}
            className="max-w-48 rounded-[4px] border border-line bg-surface px-1.5 py-1 font-semibold text-ink"
          >
            <option value="">all</option>
            {choices(p, devices.values()).map((c) => (
              <option key={c}>{c}</option>
            ))}
          </select>
        </label>
      ))}
      <label className="flex items-center gap-1.5 text-muted">
        span
        <select
          value={preset ? span : "own"}
          onChange={(e) =>
            setSpan(
              e.target.value === "own"
                ? `${new Date(times.from).toISOString()}..${new Date(times.to).toISOString()}`
                : e.target.value,
            )
          }
          className="rounded-[4px] border border-line bg-surface px-1.5 py-1 font-semibold text-ink"
        >
          {boardSpans.map((s) => (
            <option key={s.value} value={s.value}>
              {s.name}
            </option>
          ))}
          <option value="own">own…</option>
        </select>
      </label>
      {!preset && <OwnSpan from={times.from} to={times.to} onChange={setSpan} />}
    </>
  );
  const printed = [
    ...parameters.filter((p) => values.get(p)).map((p) => `${p} ${values.get(p)}`),
    `${minuteOf(times.from)} to ${minuteOf(times.to)}`,
  ].join(", ");
  return { head, printed, seen, asOf, setAsOf };
}

// typedTime writes a time as a field for it wants it, by the clock of this browser.
const typedTime = (ms: number) =>
  new Date(ms - new Date(ms).getTimezoneOffset() * 60_000).toISOString().slice(0, 16);

// OwnSpan asks for two times.
function OwnSpan({ from, to, onChange }: { from: number; to: number; onChange: (span: string) => void }) {
  const put = (a: number, b: number) => {
    if (a < b) onChange(`${new Date(a).toISOString()}..${new Date(b).toISOString()}`);
  };
  const look = "rounded-[4px] border border-line bg-surface px-1.5 py-1 text-ink";
  return (
    <span className="flex flex-wrap items-center gap-1.5">
      <input
        type="datetime-local"
        aria-label="From"
        value={typedTime(from)}
        onChange={(e) => put(Date.parse(e.target.value), to)}
        className={look}
      />
      <input
        type="datetime-local"
        aria-label="To"
        value={typedTime(to)}
        onChange={(e) => put(from, Date.parse(e.target.value))}
        className={look}
      />
    </span>
  );
}

const rowHeight = "2.5rem";

// rowsOf is how high a row is: a board that fits on one screen fills it, so that it is read
// from afar.
const rowsOf = (b: Board) => {
  const rows = bottom(b);
  return rows <= 16 ? `max(${rowHeight}, calc((100vh - 9rem) / ${rows} - 1rem))` : rowHeight;
};

function Grid({ board, seen, lacks }: { board: Board; seen: Seen; lacks?: Map<number, string> }) {
  const narrow = useNarrow();
  const order = board.instruments
    .map((x, i) => ({ x, i }))
    .sort((a, b) => a.x.place[1] - b.x.place[1] || a.x.place[0] - b.x.place[0]);
  return (
    <div
      className="grid gap-4"
      style={
        narrow
          ? { gridTemplateColumns: "minmax(0,1fr)" }
          : { gridTemplateColumns: "repeat(12,minmax(0,1fr))", gridAutoRows: rowsOf(board) }
      }
    >
      {order.map(({ x, i }) => {
        const [col, row, w, h] = x.place;
        return (
          <section
            key={i}
            aria-label={x.title || x.instrument}
            data-instrument={x.instrument}
            className="min-w-0"
            style={
              narrow
                ? {
                    minHeight: `calc(${Math.min(h, 7)} * ${rowHeight})`,
                    height:
                      x.instrument === "roster" || x.instrument === "vessels"
                        ? undefined
                        : `calc(${h} * 3.1rem)`,
                  }
                : { gridColumn: `${col + 1} / span ${w}`, gridRow: `${row + 1} / span ${h}` }
            }
          >
            <Instrument x={x} seen={seen} lack={lacks?.get(i)} />
          </section>
        );
      })}
    </div>
  );
}

const fresh: Record<Described["instrument"], Partial<Described>> = {
  trace: { place: [0, 0, 6, 5], metrics: [] },
  dial: { place: [0, 0, 3, 3], metrics: [], linear: true },
  figure: { place: [0, 0, 3, 3], metrics: [] },
  bars: { place: [0, 0, 4, 5], metrics: [] },
  histogram: { place: [0, 0, 4, 4], metrics: [] },
  strip: { place: [0, 0, 6, 3], metrics: [] },
  roster: { place: [0, 0, 8, 6], columns: ["health", "headspace", "seen"] },
  alarms: { place: [0, 0, 4, 4] },
  tally: { place: [0, 0, 3, 3], count: "health" },
  vessels: { place: [0, 0, 8, 4], group_by: "site" },
  map: { place: [0, 0, 6, 6] },
  plan: { place: [0, 0, 6, 6] },
  note: { place: [0, 0, 4, 3], text: "A note in **Markdown**." },
  control: { place: [0, 0, 3, 3], setting: "" },
};

const draftKey = (name: string) => `ullage-board-${name}`;

interface Draft {
  board: Board; // what it was made of
  tag: string;
  draft?: Board;
}

// readDraft is what this browser has kept of a board, or the board as it is stored.
function readDraft(now: Board, tag: string): Draft {
  try {
    const kept = JSON.parse(localStorage.getItem(draftKey(now.board)) ?? "null") as Draft | null;
    if (kept?.draft?.instruments && kept.board?.instruments) return kept;
  } catch {
    // one that cannot be read is none
  }
  return { board: now, tag };
}

// Editor changes a board. What was changed is a draft of this browser until it is saved.
function Editor({
  now,
  tag,
  seen,
  lacks,
  onDone,
}: {
  now: Board; // as it is stored, which somebody else may change meanwhile
  tag: string;
  seen: Seen;
  lacks?: Map<number, string>;
  onDone: () => void;
}) {
  const tell = useTell();
  const navigate = useNavigate();
  const queries = useQueryClient();
  // What was begun with: a draft goes on from the state that it was made of.
  const [begun] = useState(() => readDraft(now, tag));
  const board = begun.board;
  const [steps, setSteps] = useState<Board[]>(begun.draft ? [board, begun.draft] : [board]);
  const [at, setAt] = useState(steps.length - 1);
  const [picked, setPicked] = useState(-1);
  const [trouble, setTrouble] = useState("");
  const [removing, setRemoving] = useState(false);
  const draft = steps[at];
  const dirty = draft !== board;
  const put = (next: Board) => {
    setSteps([...steps.slice(0, at + 1), next].slice(-100));
    setAt(Math.min(at + 1, 99));
    setTrouble("");
  };
  useEffect(() => {
    if (dirty) localStorage.setItem(draftKey(board.board), JSON.stringify({ board, tag: begun.tag, draft }));
    else localStorage.removeItem(draftKey(board.board));
  }, [draft, dirty, board, begun.tag]);
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if (!(e.ctrlKey || e.metaKey) || e.key.toLowerCase() !== "z") return;
      if ((e.target as HTMLElement).closest("input,textarea,[contenteditable]")) return;
      e.preventDefault();
      setAt((n) => (e.shiftKey ? Math.min(n + 1, steps.length - 1) : Math.max(n - 1, 0)));
    };
    window.addEventListener("keydown", key);
    return () => window.removeEventListener("keydown", key);
  }, [steps.length]);
  const other = JSON.stringify(now) !== JSON.stringify(board);
  const save = async (over: boolean) => {
    try {
      await ask(
        api.PUT("/api/v1/boards/{name}", {
          params: {
            path: { name: board.board },
            header: over || !begun.tag ? {} : { "If-Match": begun.tag },
          },
          body: { ...draft, made: undefined },
        } as never),
      );
      localStorage.removeItem(draftKey(board.board));
      await queries.invalidateQueries({ queryKey: ["boards"] });
      tell("The board is saved.");
      onDone();
    } catch (e) {
      setTrouble((e as Error).message);
    }
  };
  const change = (i: number, x: Described) => put({ ...draft, instruments: draft.instruments.with(i, x) });
  const add = (kind: Described["instrument"]) => {
    const f = fresh[kind];
    const place = [...(f.place ?? [0, 0, 4, 4])];
    place[1] = bottom(draft);
    put({ ...draft, instruments: [...draft.instruments, { instrument: kind, ...f, place } as Described] });
    setPicked(draft.instruments.length);
  };
  return (
    <>
      <div className="flex flex-wrap items-center gap-2 border-t border-line py-2.5">
        <label className="flex items-center gap-1.5 text-muted">
          add
          <select
            value=""
            aria-label="Add an instrument"
            onChange={(e) => add(e.target.value as Described["instrument"])}
            className="rounded-[4px] border border-line bg-surface px-1.5 py-1 text-ink"
          >
            <option value="">an instrument…</option>
            {Object.keys(fresh).map((k) => (
              <option key={k}>{k}</option>
            ))}
          </select>
        </label>
        <Button disabled={at === 0} onClick={() => setAt(at - 1)} title="Ctrl-Z">
          Undo
        </Button>
        <Button disabled={at === steps.length - 1} onClick={() => setAt(at + 1)} title="Ctrl-Shift-Z">
          Redo
        </Button>
        <span className="text-muted">
          {dirty
            ? "a draft of this browser until it is saved"
            : plural(draft.instruments.length, "instrument")}
        </span>
        <span className="ml-auto flex gap-2">
          <Button onClick={() => setRemoving(true)}>Remove the board…</Button>
          <Button
            onClick={() => {
              localStorage.removeItem(draftKey(board.board));
              setSteps([board]);
              setAt(0);
              onDone();
            }}
          >
            {dirty ? "Drop the changes" : "Done"}
          </Button>
          <Button primary disabled={!dirty} onClick={() => void save(false)}>
            Save
          </Button>
        </span>
      </div>
      {trouble && <Trouble>{trouble}</Trouble>}
      {other && (
        <p
          role="status"
          className="mb-3 flex flex-wrap items-center gap-3 border-y border-line bg-surface px-3 py-2"
        >
          Somebody else has changed this board since you began.
          {dirty && <Button onClick={() => void save(true)}>Save mine over it</Button>}
          <Button
            onClick={() => {
              localStorage.removeItem(draftKey(board.board));
              onDone();
            }}
          >
            See theirs
          </Button>
        </p>
      )}
      <div className="grid gap-5 lg:grid-cols-[minmax(0,1fr)_20rem]">
        <BoardGrid
          instruments={draft.instruments}
          picked={picked}
          onPick={setPicked}
          onPlaces={(places) =>
            put({ ...draft, instruments: draft.instruments.map((x, i) => ({ ...x, place: places[i] })) })
          }
          draw={(x, i) => (
            <Instrument
              x={x}
              seen={seen}
              lack={draft === board ? lacks?.get(i) : undefined}
              onChange={(next) => change(i, next)}
            />
          )}
        />
        <InstrumentForm
          key={picked}
          board={draft}
          onBoard={put}
          x={draft.instruments[picked]}
          onChange={(x) => change(picked, x)}
          onCopy={() => {
            const x = draft.instruments[picked];
            const place = [x.place[0], bottom(draft), x.place[2], x.place[3]];
            put({ ...draft, instruments: [...draft.instruments, { ...x, place }] });
            setPicked(draft.instruments.length);
          }}
          onRemove={() => {
            put({ ...draft, instruments: draft.instruments.filter((_, i) => i !== picked) });
            setPicked(-1);
          }}
        />
      </div>
      {removing && (
        <Dialog
          title={`Remove the board ${board.title || board.board}`}
          about={`It has ${plural(board.instruments.length, "instrument")}. Nobody can look at it any more; the devices and their readings stay.`}
          verb="Remove it"
          danger
          act={async () => {
            await ask(
              api.DELETE("/api/v1/boards/{name}", { params: { path: { name: board.board } } } as never),
            );
            localStorage.removeItem(draftKey(board.board));
            await queries.invalidateQueries({ queryKey: ["boards"] });
            const back = () =>
              void ask(
                api.PUT("/api/v1/boards/{name}", {
                  params: { path: { name: board.board } },
                  body: board,
                } as never),
              ).then(() => queries.invalidateQueries({ queryKey: ["boards"] }));
            tell("The board is removed.", { undo: back });
            navigate("/boards");
          }}
          onClose={() => setRemoving(false)}
        />
      )}
    </>
  );
}
