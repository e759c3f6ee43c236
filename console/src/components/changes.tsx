import type { Change } from "../api/client";

const looks: Record<string, string> = {
  breaking: "text-urgent font-semibold",
  careful: "text-watch font-semibold",
  safe: "text-muted",
};

// Changes lists what is different between two versions of a model, the
// weightiest first.
export function Changes({ changes, none }: { changes: Change[]; none: string }) {
  if (changes.length === 0) return <p className="text-muted">{none}</p>;
  return (
    <ul>
      {changes.map((c) => (
        <li
          key={c.pointer + c.sentence}
          className="grid grid-cols-[5rem_minmax(0,1fr)] gap-3 border-b border-line py-1.5"
        >
          <span className={looks[c.weight]}>{c.weight}</span>
          <span>{c.sentence}</span>
        </li>
      ))}
    </ul>
  );
}
