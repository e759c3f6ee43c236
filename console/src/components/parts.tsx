import { useState, type ButtonHTMLAttributes, type ReactNode } from "react";
import { Link } from "react-router";

export function Button({
  primary = false,
  className = "",
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { primary?: boolean }) {
  const look = primary
    ? "bg-press text-on-press border-press"
    : "bg-surface text-ink border-line hover:border-muted";
  return (
    <button
      type="button"
      {...rest}
      className={`rounded-[4px] border px-3 py-1.5 font-semibold whitespace-nowrap print:hidden disabled:opacity-50 ${look} ${className}`}
    />
  );
}

// Choice is a row of buttons of which one is chosen.
export function Choice({
  label,
  options,
  value,
  onChange,
}: {
  label: string;
  options: readonly { value: string; name: string }[];
  value: string;
  onChange: (v: string) => void;
}) {
  return (
    <div role="group" aria-label={label} className="flex flex-wrap items-center gap-1">
      {options.map((o) => (
        <button
          key={o.value}
          type="button"
          aria-pressed={o.value === value}
          onClick={() => onChange(o.value)}
          className={`rounded-[4px] border px-2.5 py-1 whitespace-nowrap ${
            o.value === value
              ? "border-line bg-surface font-semibold text-ink"
              : "border-transparent text-muted hover:text-ink print:hidden"
          }`}
        >
          {o.name}
        </button>
      ))}
    </div>
  );
}

// Empty says why there is nothing to see, and the next step.
export function Empty({ title, why, next }: { title: string; why?: ReactNode; next?: ReactNode }) {
  return (
    <div className="max-w-xl py-8">
      <h2 className="text-base font-semibold">{title}</h2>
      {why && <p className="mt-1 text-muted">{why}</p>}
      {next && <div className="mt-3">{next}</div>}
    </div>
  );
}

// Absent stands in the place of a page about one thing that cannot be shown, with the way to all
// of its kind.
export function Absent({
  why,
  else: otherwise,
  to,
  all,
}: {
  why: string;
  else?: string;
  to: string;
  all: string;
}) {
  return (
    <Empty
      title={why.charAt(0).toUpperCase() + why.slice(1)}
      why={otherwise}
      next={
        <Link to={to} className="text-press underline">
          {all}
        </Link>
      }
    />
  );
}

// Command is a command to copy as it is.
export function Command({ children, wrap = false }: { children: string; wrap?: boolean }) {
  const [copied, setCopied] = useState(false);
  const copy = async () => {
    await navigator.clipboard.writeText(children);
    setCopied(true);
    window.setTimeout(() => setCopied(false), 1500);
  };
  return (
    <div className="flex max-w-full items-stretch border border-line bg-surface">
      <code
        className={`px-3 py-2 font-mono text-[0.8125rem] ${wrap ? "break-words whitespace-pre-wrap" : "overflow-x-auto whitespace-pre"}`}
        tabIndex={0}
      >
        {children}
      </code>
      <button type="button" onClick={copy} className="ml-auto border-l border-line px-3 text-press">
        {copied ? "copied" : "copy"}
      </button>
    </div>
  );
}

// Head is the head of a column by which a table can be sorted.
export function Head({
  children,
  right = false,
  title,
  className = "",
  sorted,
  onSort,
}: {
  children: ReactNode;
  right?: boolean;
  title?: string;
  className?: string;
  sorted?: "ascending" | "descending" | "reversed";
  onSort: () => void;
}) {
  return (
    <th
      scope="col"
      title={title}
      className={`py-1 pr-6 font-normal last:pr-0 max-2xl:pr-4 max-2xl:last:pr-0 ${right ? "text-right" : "text-left"} ${className}`}
      aria-sort={sorted === "reversed" ? "descending" : (sorted ?? "none")}
    >
      <button
        type="button"
        onClick={onSort}
        className={`py-1 whitespace-nowrap ${sorted ? "font-semibold" : "text-muted"}`}
      >
        {children} {sorted && <span aria-hidden="true">{sorted === "reversed" ? "↑" : "↓"}</span>}
      </button>
    </th>
  );
}

// Notes say what of some lines could not be read.
export function Notes({ lines }: { lines?: { metric: string; note?: string }[] }) {
  return lines
    ?.filter((l) => l.note)
    .map((l, i) => (
      <Trouble key={i}>
        {l.metric} of {l.note}
      </Trouble>
    ));
}

export function Trouble({ children }: { children: ReactNode }) {
  return (
    <p role="alert" className="border-l-4 border-urgent py-1 pl-3 text-urgent">
      {children}
    </p>
  );
}
