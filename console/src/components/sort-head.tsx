import { Head } from "./parts";

// SortHead is the head of a column by which a table is sorted: a press sorts by it, another one
// the other way round. What a table is sorted by is kept as the column's key, with a dash before
// it for the other way round.
export function SortHead({
  column: c,
  sort,
  onSort,
  name = c.name,
  className,
}: {
  column: { key: string; name: string; title?: string; right?: boolean };
  sort: string;
  onSort: (sort: string) => void;
  name?: string;
  className?: string;
}) {
  const down = sort.startsWith("-");
  const on = sort.replace("-", "") === c.key;
  return (
    <Head
      right={c.right}
      title={c.title}
      className={className}
      sorted={on ? (down ? "reversed" : "ascending") : undefined}
      onSort={() => onSort(on && !down ? `-${c.key}` : c.key)}
    >
      {name}
    </Head>
  );
}
