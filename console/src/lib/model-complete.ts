import { syntaxTree } from "@codemirror/language";
import type { CompletionContext, CompletionResult } from "@codemirror/autocomplete";
import type { EditorState } from "@codemirror/state";
import type { SyntaxNode } from "@lezer/common";

// The part of JSON Schema that completion reads.
export interface Schema {
  description?: string;
  type?: string;
  enum?: unknown[];
  const?: unknown;
  default?: unknown;
  examples?: unknown[];
  properties?: Record<string, Schema>;
  additionalProperties?: Schema | boolean;
  items?: Schema;
  allOf?: Schema[];
  anyOf?: Schema[];
  $ref?: string;
  $defs?: Record<string, Schema>;
}

const unquote = (s: string) => s.replace(/^["']|["']$/g, "");

// place returns the keys that lead to a position, and whether a key or a value
// is being written there; in JSON and in YAML.
export function place(
  state: EditorState,
  pos: number,
): { path: string[]; key: boolean; from: number; used: string[] } {
  const path: string[] = [];
  let node: SyntaxNode | null = syntaxTree(state).resolveInner(pos, -1);
  const text = (n: SyntaxNode) => state.sliceDoc(n.from, n.to);
  const at = node;
  let key = true;
  let decided = false;
  let holder: SyntaxNode | null = null;
  for (; node; node = node.parent) {
    if (node.name === "Property" || node.name === "Pair") {
      const name = node.firstChild;
      const inKey = name !== null && pos <= name.to;
      if (!decided) {
        key = inKey;
        decided = true;
      }
      if (!inKey && name) path.unshift(unquote(text(name)));
    } else if (node.name === "Array" || node.name === "BlockSequence" || node.name === "FlowSequence") {
      path.unshift("[]");
      if (!decided) {
        key = false;
        decided = true;
      }
    } else if (/^(Object|BlockMapping|FlowMapping)$/.test(node.name)) {
      if (!decided) decided = true;
      holder ??= node;
    }
  }
  const used: string[] = [];
  for (let k = holder?.firstChild; k; k = k.nextSibling)
    if (
      (k.name === "Property" || k.name === "Pair") &&
      k.firstChild &&
      !(k.from <= pos && pos <= k.firstChild.to)
    )
      used.push(unquote(text(k.firstChild)));
  const word = /^(String|PropertyName|QuotedLiteral|Literal|Key|Number|True|False|⚠)$/.test(at.name)
    ? at.from
    : pos;
  return { path, key, from: word, used };
}

// follow returns the schemas that may stand at a path.
function follow(root: Schema, path: string[]): Schema[] {
  const open = (s: Schema | undefined): Schema[] => {
    if (!s) return [];
    if (s.$ref) return open(root.$defs?.[s.$ref.replace("#/$defs/", "")]);
    return [s, ...(s.allOf ?? []).flatMap(open), ...(s.anyOf ?? []).flatMap(open)];
  };
  let at = open(root);
  for (const step of path) {
    at = at.flatMap((s) => {
      if (step === "[]") return open(s.items);
      if (s.properties?.[step]) return open(s.properties[step]);
      return typeof s.additionalProperties === "object" ? open(s.additionalProperties) : [];
    });
  }
  return at;
}

// completer completes keys and values of a file by its JSON Schema.
export function completer(schema: Schema, json: boolean) {
  return (c: CompletionContext): CompletionResult | null => {
    const where = place(c.state, c.pos);
    const before = c.matchBefore(/"?[\w:@./%-]*$/);
    const from = before ? before.from : c.pos;
    if (!c.explicit && (!before || before.from === before.to)) return null;
    const here = follow(schema, where.path);
    const quoted = before?.text.startsWith('"') ?? false;
    const closed = c.state.sliceDoc(c.pos, c.pos + 1) === '"';
    const named = /^"?\s*:/.test(c.state.sliceDoc(c.pos, c.pos + 8)); // there is a value already
    const write = (v: unknown) => (json || typeof v !== "string" ? JSON.stringify(v) : String(v));
    if (where.key) {
      const keys = new Map<string, Schema>();
      for (const s of here)
        for (const [k, v] of Object.entries(s.properties ?? {})) if (!keys.has(k)) keys.set(k, v);
      const options = [...keys]
        .filter(([k]) => !where.used.includes(k))
        .map(([k, v]) => ({
          label: json ? `"${k}"` : k,
          displayLabel: k,
          apply: (json ? `"${k}"` : k) + (named ? "" : ": "),
          type: "property",
          info: v.description,
        }));
      return options.length ? { from, to: quoted && closed ? c.pos + 1 : undefined, options } : null;
    }
    const values = new Map<string, Schema>();
    for (const s of here)
      for (const v of [
        ...(s.enum ?? []),
        ...(s.const !== undefined ? [s.const] : []),
        ...(s.examples ?? []),
        ...(s.type === "boolean" ? [true, false] : []),
      ])
        values.set(write(v), s);
    const options = [...values].map(([label, s]) => ({
      label,
      displayLabel: unquote(label),
      type: "enum",
      info: s.description,
    }));
    return options.length ? { from, to: quoted && closed ? c.pos + 1 : undefined, options } : null;
  };
}
