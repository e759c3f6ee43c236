import { DropdownMenu } from "radix-ui";
import { useMemo, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";
import { number, plural } from "../lib/format";
import { useRows } from "../lib/rows";
import { useNarrow, useParam } from "../lib/use";
import { Button, Trouble } from "./parts";
import { Where } from "./where";

// Column is one column of a list of things. Its value is what the list is sorted
// by, and what is shown where there is no cell.
export interface Column<T> {
  key: string;
  title: string;
  value: (x: T) => string | number | undefined;
  cell?: (x: T) => ReactNode;
  right?: boolean;
  // rare columns are not shown until somebody chooses them.
  rare?: boolean;
}

interface Props<T> {
  word: string; // what one is called, as in site
  words?: string;
  // of names the noun for its conditions; without it there is no filter.
  of?: string;
  items: readonly T[];
  total?: number; // where there are more than are here
  columns: Column<T>[];
  usual: string; // the column it is sorted by at first
  name: (x: T) => string;
  to: (x: T) => string;
  pending: boolean;
  error?: Error | null;
  retry?: () => void;
  empty: ReactNode; // why there is none, and the next step
  actions?: ReactNode;
  // card draws one on a narrow screen, where columns would be cut.
  card: (x: T) => ReactNode;
}

// What has no value stands last, whichever way the list is sorted.
function compareBy<T>(c: Column<T>, down: boolean, name: (x: T) => string) {
  return (a: T, b: T) => {
    const x = c.value(a);
    const y = c.value(b);
    const missing = (v: string | number | undefined) => Number(v === undefined || v === "");
    if (missing(x) || missing(y))
      return missing(x) - missing(y) || name(a).localeCompare(name(b), undefined, { numeric: true });
    const order =
      typeof x === "number" && typeof y === "number"
        ? x - y
        : String(x).localeCompare(String(y), undefined, { numeric: true });
    return order * (down ? -1 : 1) || name(a).localeCompare(name(b), undefined, { numeric: true });
  };
}

// Things is the list of one noun: filtered, sorted, with the columns that people
// choose, from the keyboard, and as cards on a phone. The address holds it all.
export function Things<T>(p: Props<T>) {
  const words = p.words ?? `${p.word}s`;
  const [where, setWhere] = useParam("where", "");
  const [sort, setSort] = useParam("sort", p.usual);
  const usualColumns = p.columns
    .filter((c) => !c.rare)
    .map((c) => c.key)
    .join(",");
  const [chosen, setChosen] = useParam("cols", usualColumns);
  const narrow = useNarrow();
  const down = sort.startsWith("-");
  const key = down ? sort.slice(1) : sort;
  const by = p.columns.find((c) => c.key === key) ?? p.columns[0];
  const rows = useMemo(() => [...p.items].sort(compareBy(by, down, p.name)), [p.items, by, down, p.name]);
  const shown = p.columns.filter((c) => chosen.split(",").includes(c.key));
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pb-3">
        {p.of && (
          <div className="min-w-60 flex-1">
            <Where
              of={p.of}
              value={where}
              onChange={setWhere}
              label={`Filter ${words} by a condition`}
              placeholder={`Only ${words} for which this is true`}
            />
          </div>
        )}
        <p className="text-muted" role="status">
          {p.pending
            ? "Loading…"
            : p.total !== undefined && p.total > p.items.length
              ? `the first ${number(p.items.length)} of ${plural(p.total, p.word, words)}`
              : plural(p.items.length, p.word, words)}
        </p>
        {!narrow && p.columns.length > 3 && (
          <Columns
            columns={p.columns}
            shown={shown}
            onChange={(c) => setChosen(c.join(",") || p.columns[0].key)}
            usual={usualColumns.split(",")}
          />
        )}
        <div className="ml-auto flex gap-2 max-sm:ml-0">{p.actions}</div>
      </div>
      {p.error ? (
        <div className="flex items-center gap-4">
          <Trouble>{p.error.message}</Trouble>
          {p.retry && <Button onClick={p.retry}>Try again</Button>}
        </div>
      ) : p.pending ? null : rows.length === 0 ? (
        where ? (
          <p className="py-6 text-muted">
            No {p.word} is like that.{" "}
            <button type="button" className="text-press underline" onClick={() => setWhere("")}>
              Show all of them
            </button>
          </p>
        ) : (
          p.empty
        )
      ) : narrow ? (
        <Cards rows={rows} {...p} />
      ) : (
        <Table rows={rows} shown={shown} by={by} down={down} setSort={setSort} words={words} {...p} />
      )}
    </>
  );
}

function Cards<T>({ rows, name, to, card }: Props<T> & { rows: T[] }) {
  return (
    <ul className="border-t border-line">
      {rows.map((x) => (
        <li key={name(x)} className="border-b border-line">
          <Link to={to(x)} className="block py-2.5">
            {card(x)}
          </Link>
        </li>
      ))}
    </ul>
  );
}

function Table<T>({
  rows,
  shown,
  by,
  down,
  setSort,
  words,
  ...p
}: Props<T> & {
  rows: T[];
  shown: Column<T>[];
  by: Column<T>;
  down: boolean;
  setSort: (s: string) => void;
  words: string;
}) {
  const navigate = useNavigate();
  const { box, long, keys, drawn, before, after } = useRows(rows.length, 36);
  return (
    <div
      ref={box}
      className={long ? "max-h-[75vh] overflow-auto" : "overflow-x-auto"}
      tabIndex={0}
      role="region"
      aria-label={`List of ${words}`}
      onKeyDown={keys}
    >
      <table className="w-full border-collapse">
        <caption className="sr-only">{plural(rows.length, p.word, words)}</caption>
        <thead className="sticky top-0 bg-ground">
          <tr className="text-left text-muted">
            {shown.map((c) => (
              <th
                key={c.key}
                scope="col"
                className={`border-b border-line py-1.5 pr-5 font-normal whitespace-nowrap ${c.right ? "text-right" : ""}`}
                aria-sort={by.key === c.key ? (down ? "descending" : "ascending") : undefined}
              >
                <button
                  type="button"
                  onClick={() => setSort(by.key === c.key && !down ? `-${c.key}` : c.key)}
                  className={by.key === c.key ? "font-semibold text-ink" : "hover:text-ink"}
                >
                  {c.title} {by.key === c.key ? (down ? "↓" : "↑") : ""}
                </button>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {before > 0 && <tr style={{ height: before }} />}
          {drawn.map((index) => {
            const x = rows[index];
            return (
              <tr
                key={p.name(x)}
                data-index={index}
                className="cursor-pointer border-b border-line hover:bg-surface"
                onClick={() => navigate(p.to(x))}
              >
                {shown.map((c, i) => (
                  <td
                    key={c.key}
                    className={`max-w-96 py-1.5 pr-5 align-top ${c.right ? "text-right whitespace-nowrap" : ""} ${i === 0 ? "whitespace-nowrap" : ""}`}
                  >
                    {i === 0 ? (
                      <Link to={p.to(x)} onClick={(e) => e.stopPropagation()} className="font-semibold">
                        {c.cell?.(x) ?? c.value(x)}
                      </Link>
                    ) : (
                      (c.cell?.(x) ?? c.value(x))
                    )}
                  </td>
                ))}
              </tr>
            );
          })}
          {after > 0 && <tr style={{ height: after }} />}
        </tbody>
      </table>
    </div>
  );
}

function Columns<T>({
  columns,
  shown,
  usual,
  onChange,
}: {
  columns: Column<T>[];
  shown: Column<T>[];
  usual: string[];
  onChange: (keys: string[]) => void;
}) {
  const item =
    "flex cursor-pointer items-center gap-2 px-3 py-1 outline-none data-[highlighted]:bg-ground before:w-3 before:content-[''] data-[state=checked]:before:content-['✓']";
  const has = (c: Column<T>) => shown.includes(c);
  return (
    <DropdownMenu.Root modal={false}>
      <DropdownMenu.Trigger className="rounded-[4px] border border-line bg-surface px-2.5 py-1">
        Columns
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={4}
          className="z-40 min-w-44 border border-line bg-surface py-1 shadow-md"
        >
          <DropdownMenu.Item className={`${item} text-press`} onSelect={() => onChange(usual)}>
            As usual
          </DropdownMenu.Item>
          {columns.slice(1).map((c) => (
            <DropdownMenu.CheckboxItem
              key={c.key}
              className={item}
              checked={has(c)}
              onCheckedChange={(on) =>
                onChange(columns.filter((x, i) => i === 0 || (x === c ? on : has(x))).map((x) => x.key))
              }
              onSelect={(e) => e.preventDefault()}
            >
              {c.title}
            </DropdownMenu.CheckboxItem>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
