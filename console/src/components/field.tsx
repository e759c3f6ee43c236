// fieldLook is how everything that is typed into or chosen from looks.
export const fieldLook = "w-full rounded-[4px] border border-muted bg-ground px-2 py-1.5";

// Field is one value to type or to choose, beside its label.
export function Field({
  id,
  type,
  value,
  choices,
  secret,
  onChange,
}: {
  id: string;
  type: string;
  value: string;
  choices?: { value: string; name: string }[];
  secret?: boolean; // it is not shown while it is typed, and never after that
  onChange: (v: string) => void;
}) {
  if (choices)
    return (
      <select id={id} value={value} onChange={(e) => onChange(e.target.value)} className={fieldLook}>
        {!choices.some((c) => c.value === value) && <option value={value} />}
        {choices.map((c) => (
          <option key={c.value} value={c.value}>
            {c.name}
          </option>
        ))}
      </select>
    );
  return (
    <input
      id={id}
      value={value}
      {...(secret ? { type: "password", autoComplete: "new-password", placeholder: "unchanged" } : {})}
      inputMode={type === "text" ? undefined : "decimal"}
      onChange={(e) => onChange(e.target.value)}
      className={`${fieldLook} ${type === "text" ? "" : "text-right"}`}
    />
  );
}

// choicesOf are what a value may be chosen from, if that is so.
export function choicesOf(type: string, words?: readonly unknown[]) {
  if (type === "boolean")
    return [
      { value: "true", name: "yes" },
      { value: "false", name: "no" },
    ];
  return words?.map((v) => ({ value: String(v), name: String(v) }));
}

// rangeOf says from what to what a number may be.
export function rangeOf(x: { minimum?: number; maximum?: number; display?: string }): string {
  const range =
    x.minimum !== undefined && x.maximum !== undefined
      ? `${x.minimum} to ${x.maximum}`
      : x.minimum !== undefined
        ? `from ${x.minimum}`
        : x.maximum !== undefined
          ? `to ${x.maximum}`
          : "";
  return [range, x.display].filter(Boolean).join(" ");
}
