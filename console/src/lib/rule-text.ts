import { parse, parseDocument, stringify } from "yaml";
import { api, ask, type FolderFinding, type Rule } from "../api/client";
import { conditionOf, exampleOf } from "./example";

// blank is the beginning of a new rule, about what the fleet measures.
export function blank(e: ReturnType<typeof exampleOf>): string {
  return `rule: ${e ? `${e.metric}_too_${e.upward ? "high" : "low"}` : "name_of_the_rule"}
models: [${e?.model ?? "MODEL"}]
raise: ${e ? conditionOf(e) : "METRIC > 0"}
on_delay: 10min
off_delay: 5min
priority: high
message: "{device.id}: ${e ? `${e.metric} is {${e.metric}}` : "what is wrong"}"
cause:
response:
`;
}

// written is a rule as its file, in the order in which people write it.
export function written(r: Rule): string {
  const order = [
    "rule",
    "models",
    "devices",
    "each",
    "raise",
    "clear",
    "on_delay",
    "deadband",
    "off_delay",
    "priority",
    "respond_within",
    "rises",
    "latch",
    "suppress",
    "suppresses",
    "message",
    "cause",
    "response",
    "disabled",
  ] as const;
  const out: Record<string, unknown> = {};
  for (const k of order)
    if (r[k] !== undefined && r[k] !== "" && r[k] !== 0 && r[k] !== false && r[k] !== "0s") out[k] = r[k];
  return stringify(out, { lineWidth: 100 }).replace(
    /^models:\n((?: {2}- .*\n)+)/m,
    (_, list: string) => `models: [${list.replace(/ {2}- (.*)\n/g, "$1, ").slice(0, -2)}]\n`,
  );
}

// formOf reads a text as a rule, as far as it is one; undefined while it is none.
export function formOf(text: string): Partial<Rule> | undefined {
  try {
    const r = parse(text, { maxAliasCount: 0 }) as Partial<Rule> | null;
    if (r === null || typeof r !== "object" || (r.models !== undefined && !Array.isArray(r.models)))
      return undefined;
    for (const k of ["cause", "response"] as const) if (r[k] === null) delete r[k];
    return r;
  } catch {
    return undefined;
  }
}

// withKey puts a key into the text of a rule, and leaves everything else as it is written,
// comments too.
export function withKey(text: string, key: string, value: unknown): string {
  const doc = parseDocument(text);
  if (value === undefined || value === "") doc.delete(key);
  else doc.set(key, Array.isArray(value) ? doc.createNode(value, { flow: true }) : value);
  return doc.toString({ lineWidth: 100, flowCollectionPadding: false });
}

// keyed says of which key each finding is, by where it stands.
export function keyed(text: string, findings: FolderFinding[]): (FolderFinding & { key?: string })[] {
  const lines = text.split("\n");
  return findings.map((f) => {
    for (let i = Math.min(f.line, lines.length) - 1; i >= 0; i--) {
      const key = /^([a-z_]+):/.exec(lines[i])?.[1];
      if (key) return { ...f, key };
    }
    return f;
  });
}

// alreadyOver returns the devices on which a rule would be raised at once, where they are more
// than a fifth of those that it is for.
export async function alreadyOver(next: Rule): Promise<string[]> {
  try {
    const x = await ask(api.POST("/api/v1/rules/at-once", { body: next }));
    return x.many ? x.devices : [];
  } catch {
    return []; // what is wrong with it is said when it is put in force
  }
}
