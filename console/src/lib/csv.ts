// cell writes a text for CSV (RFC 4180); one that a spreadsheet would take for a
// formula has a quote before it.
export const cell = (s: string) => {
  const safe = /^[=+\-@\t\r]/.test(s) ? `'${s}` : s;
  return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
};

// table writes rows under their heads as CSV.
export const table = (head: readonly string[], rows: readonly (readonly string[])[]) =>
  [head.join(","), ...rows.map((r) => r.map(cell).join(",")), ""].join("\r\n");

export function download(name: string, type: string, text: string) {
  const url = URL.createObjectURL(new Blob([text], { type }));
  const a = document.createElement("a");
  a.href = url;
  a.download = name;
  a.click();
  window.setTimeout(() => URL.revokeObjectURL(url), 10_000);
}
