import { download, table } from "../lib/csv";
import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, type JournalEntry } from "../api/client";
import { useFleet } from "../api/live";
import { fieldLook } from "../components/field";
import { Button, Empty, Trouble } from "../components/parts";
import { useTell } from "../components/notices";
import { Where } from "../components/where";
import { absolute, ago, called, number } from "../lib/format";
import { written } from "../lib/prefer";
import { useNow, useParam, useTitle, useTyped } from "../lib/use";

const pageSize = 200;
const exportPage = 1000;
const mostExported = 50_000;

// aboutAll stands before a noun, of which every kind is shown.
const aboutAll = "about:";

// dayOf is the heading under which an entry stands.
const dayOf = (at: string) =>
  written(at, { weekday: "long", day: "numeric", month: "long", year: "numeric" });

// The Journal page tells what happened in the whole fleet, the newest first.
export default function JournalPage() {
  useTitle("Journal");
  const [where, setWhere] = useParam("where", "");
  const [kind, setKind] = useParam("kind", "");
  const [person, setPerson] = useTyped("person");
  const [rule, setRule] = useTyped("rule");
  const [from, setFrom] = useParam("from", "");
  const [to, setTo] = useParam("to", "");
  const tell = useTell();
  const [exported, setExported] = useState<number>();
  const now = useNow(5000);
  const { devices } = useFleet();
  const kinds = useQuery({
    queryKey: ["journal-kinds"],
    queryFn: () => ask(api.GET("/api/v1/journal/kinds")),
    staleTime: Infinity,
  });
  const page = (before: number, limit: number): Promise<JournalEntry[]> =>
    ask(
      api.GET("/api/v1/journal", {
        params: {
          query: {
            where: where || undefined,
            kind: kind.startsWith(aboutAll) ? undefined : kind || undefined,
            noun: kind.startsWith(aboutAll) ? kind.slice(aboutAll.length) : undefined,
            person: person || undefined,
            rule: rule || undefined,
            from: from ? new Date(`${from}T00:00`).toISOString() : undefined,
            to: to ? new Date(new Date(`${to}T00:00`).getTime() + 86_400_000).toISOString() : undefined,
            before: before || undefined,
            limit,
          },
        },
      }),
    );
  // What passes the filters, page by page, as a table for other programs.
  const save = async () => {
    const all: JournalEntry[] = [];
    try {
      for (let before = 0; all.length < mostExported; before = all[all.length - 1].number) {
        const next = await page(before, exportPage);
        all.push(...next);
        setExported(all.length);
        if (next.length < exportPage) break;
      }
      const head = ["number", "at", "kind", "device", "group", "rule", "person", "from", "text"] as const;
      const rows = all.map((e) => head.map((k) => String(e[k] ?? "")));
      download("journal.csv", "text/csv", table(head, rows));
      if (all.length >= mostExported)
        tell(`The latest ${number(all.length)} entries are in the file; narrow the filter for older ones`);
    } catch (e) {
      tell((e as Error).message, { bad: true });
    }
    setExported(undefined);
  };
  const nouns = [...new Set((kinds.data ?? []).map((k) => k.split(" ")[0]))].sort();
  const journal = useInfiniteQuery({
    queryKey: ["journal", "fleet", where, kind, person, rule, from, to],
    initialPageParam: 0,
    placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) => page(pageParam, pageSize),
    getNextPageParam: (last) => (last.length === pageSize ? last[last.length - 1].number : undefined),
  });
  const entries = journal.data?.pages.flat() ?? [];
  const filtered = Boolean(where || kind || person || rule || from || to);
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 py-3.5">
        <h1 className="text-[1.375rem] font-bold">Journal</h1>
        <p className="text-muted">what happened in the fleet, the latest known first</p>
        <div className="flex flex-wrap gap-2">
          <select
            aria-label="Only of a kind"
            value={kind}
            onChange={(e) => setKind(e.target.value)}
            className={`${fieldLook} !w-48 !border-line !bg-surface`}
          >
            <option value="">everything</option>
            <optgroup label="About">
              {nouns.map((n) => (
                <option key={n} value={aboutAll + n}>
                  all about: {n}
                </option>
              ))}
            </optgroup>
            <optgroup label="What happened">
              {kinds.data?.map((k) => (
                <option key={k}>{k}</option>
              ))}
            </optgroup>
          </select>
          <input
            type="search"
            aria-label="Only what a person did"
            placeholder="by a person"
            value={person}
            onChange={(e) => setPerson(e.target.value)}
            className={`${fieldLook} !w-40 !border-line !bg-surface`}
          />
          <input
            type="search"
            aria-label="Only about a rule"
            placeholder="about a rule"
            value={rule}
            onChange={(e) => setRule(e.target.value)}
            className={`${fieldLook} !w-40 !border-line !bg-surface`}
          />
          {(
            [
              ["from", from, setFrom],
              ["to", to, setTo],
            ] as const
          ).map(([word, v, set]) => (
            <label key={word} className="flex items-center gap-1.5">
              <span className="text-muted">{word}</span>
              <input
                type="date"
                aria-label={word === "from" ? "From this day on" : "Up to this day"}
                value={v}
                onChange={(e) => set(e.target.value)}
                className={`${fieldLook} !w-36 !border-line !bg-surface`}
              />
            </label>
          ))}
          <Button onClick={save} disabled={exported !== undefined}>
            {exported === undefined ? "Export" : `${number(exported)}…`}
          </Button>
        </div>
      </div>
      <div className="pb-3">
        <Where
          value={where}
          onChange={setWhere}
          label="Filter the journal by a condition on its devices"
          placeholder='Only of devices for which this is true now, such as label.site == "Saltmarsh"'
        />
      </div>
      {journal.error ? (
        <div className="flex items-center gap-4">
          <Trouble>{journal.error.message}</Trouble>
          <Button onClick={() => journal.refetch()}>Try again</Button>
        </div>
      ) : journal.isPending ? (
        <p className="text-muted">Loading…</p>
      ) : entries.length === 0 ? (
        <Empty
          title={filtered ? "Nothing like that has happened" : "Nothing has happened yet"}
          why={filtered ? "Take a filter off to see more." : undefined}
        />
      ) : (
        <>
          <ol>
            {entries.map((e, i) => (
              <li key={e.number}>
                {(i === 0 || dayOf(entries[i - 1].at) !== dayOf(e.at)) && (
                  <h2 className="border-b border-line pt-4 pb-1 font-semibold">{dayOf(e.at)}</h2>
                )}
                <Entry
                  entry={e}
                  now={now}
                  name={e.device && called(devices.get(e.device) ?? { id: e.device })}
                />
              </li>
            ))}
          </ol>
          <div className="py-4">
            {journal.hasNextPage ? (
              <Button onClick={() => journal.fetchNextPage()} disabled={journal.isFetchingNextPage}>
                {journal.isFetchingNextPage ? "Loading…" : "Show earlier ones"}
              </Button>
            ) : (
              <p className="text-muted">That is all that is kept.</p>
            )}
          </div>
        </>
      )}
    </>
  );
}

function Entry({ entry: e, now, name }: { entry: JournalEntry; now: number; name?: string }) {
  const recent = now - Date.parse(e.at) < 3600_000;
  return (
    <div className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 border-b border-line py-1 sm:grid-cols-[6rem_11rem_13rem_minmax(0,1fr)]">
      <span className="text-muted" title={absolute(e.at)}>
        {recent ? ago(e.at, now) : written(e.at, { hour: "2-digit", minute: "2-digit" })}
      </span>
      <span className="text-muted max-sm:hidden">{e.kind}</span>
      <span className="truncate">
        {e.device ? (
          <Link to={`/devices/${e.device}/journal`} className={name === e.device ? "font-mono" : ""}>
            {name}
          </Link>
        ) : (
          e.group?.split("=").slice(1).join("=")
        )}
      </span>
      <span
        className="min-w-0 break-words max-sm:col-span-2"
        title={e.person && e.from ? `${e.person}, from ${e.from}` : undefined}
      >
        {e.text}
      </span>
    </div>
  );
}
