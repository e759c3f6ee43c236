import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask, type JournalEntry } from "../api/client";
import { useFleet } from "../api/live";
import { fieldLook } from "../components/field";
import { Button, Empty, Trouble } from "../components/parts";
import { Where } from "../components/where";
import { absolute, ago, called } from "../lib/format";
import { useNow, useParam, useTitle, useTyped } from "../lib/use";

const pageSize = 200;

// dayOf is the heading under which an entry stands.
const dayOf = (at: string) =>
  new Date(at).toLocaleDateString("en-GB", {
    weekday: "long",
    day: "numeric",
    month: "long",
    year: "numeric",
  });

// The Journal page tells what happened in the whole fleet, the newest first.
export default function JournalPage() {
  useTitle("Journal");
  const [where, setWhere] = useParam("where", "");
  const [kind, setKind] = useParam("kind", "");
  const [person, setPerson] = useTyped("person");
  const [rule, setRule] = useTyped("rule");
  const now = useNow(5000);
  const { devices } = useFleet();
  const kinds = useQuery({
    queryKey: ["journal-kinds"],
    queryFn: () => ask(api.GET("/api/v1/journal/kinds")),
    staleTime: Infinity,
  });
  const journal = useInfiniteQuery({
    queryKey: ["journal", "fleet", where, kind, person, rule],
    initialPageParam: 0,
    placeholderData: keepPreviousData,
    queryFn: ({ pageParam }): Promise<JournalEntry[]> =>
      ask(
        api.GET("/api/v1/journal", {
          params: {
            query: {
              where: where || undefined,
              kind: kind || undefined,
              person: person || undefined,
              rule: rule || undefined,
              before: pageParam || undefined,
              limit: pageSize,
            },
          },
        }),
      ),
    getNextPageParam: (last) => (last.length === pageSize ? last[last.length - 1].number : undefined),
  });
  const entries = journal.data?.pages.flat() ?? [];
  const filtered = Boolean(where || kind || person || rule);
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 py-3.5">
        <h1 className="text-[1.375rem] font-bold">Journal</h1>
        <p className="text-muted">what happened in the fleet, the latest known first</p>
        <div className="flex flex-wrap gap-2 sm:ml-auto">
          <select
            aria-label="Only of a kind"
            value={kind}
            onChange={(e) => setKind(e.target.value)}
            className={`${fieldLook} !w-48 !border-line !bg-surface`}
          >
            <option value="">everything</option>
            {kinds.data?.map((k) => (
              <option key={k}>{k}</option>
            ))}
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
        {recent
          ? ago(e.at, now)
          : new Date(e.at).toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit" })}
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
      <span className="min-w-0 break-words max-sm:col-span-2">{e.text}</span>
    </div>
  );
}
