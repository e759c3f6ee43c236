import type { ReactNode } from "react";
import { number } from "../lib/format";

// What a table of the fleet shows of its rows at most; all of them are in its CSV.
const most = 300;

// byWorth sorts rows by what each is worth to a column, and by the other way round.
export function byWorth<R>(rows: R[], worth: (r: R) => number | string, down: boolean): R[] {
  return rows.sort((a, b) => {
    const [p, q] = [worth(a), worth(b)];
    const n = typeof p === "number" && typeof q === "number" ? p - q : String(p).localeCompare(String(q));
    return down ? -n : n;
  });
}

// SortedTable is a table of many rows under heads to sort by, which may be wider than the page.
export function SortedTable<R>({
  label,
  heads,
  rows,
  row,
}: {
  label: string;
  heads: ReactNode;
  rows: readonly R[];
  row: (r: R) => ReactNode;
}) {
  return (
    <div className="overflow-x-auto" tabIndex={0} role="region" aria-label={label}>
      <table className="w-full">
        <thead>
          <tr className="border-b border-line text-left align-bottom">{heads}</tr>
        </thead>
        <tbody>{rows.slice(0, most).map(row)}</tbody>
      </table>
      {rows.length > most && (
        <p className="pt-1 text-muted">
          The first {number(most)} of {number(rows.length)} are shown; the CSV has all.
        </p>
      )}
    </div>
  );
}

// SaveCsv is what saves a table.
export function SaveCsv({ onSave }: { onSave: () => void }) {
  return (
    <button type="button" onClick={onSave} className="ml-auto text-press underline">
      CSV
    </button>
  );
}
