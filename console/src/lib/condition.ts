// A condition that needs no expression: a metric above, below or outside limits, at some
// time of the week, and several of them. What is written otherwise stays as it is written.

export interface Term {
  kind: "above" | "below" | "outside" | "within" | "is" | "during" | "except";
  metric: string;
  limit: string; // a number, or a setting such as set.max_temp
  to: string; // of a band
}

const number = String.raw`-?\d+(?:\.\d+)?(?:e-?\d+)?`;
const limit = String.raw`(${number}|(?:set|intended)\.[a-z][a-z0-9_]*)`;
const name = String.raw`([a-z][a-z0-9_]*)`;
const forms: [RegExp, (m: string[]) => Term][] = [
  [new RegExp(`^${name} >=? ${limit}$`), (m) => ({ kind: "above", metric: m[1], limit: m[2], to: "" })],
  [new RegExp(`^${name} <=? ${limit}$`), (m) => ({ kind: "below", metric: m[1], limit: m[2], to: "" })],
  [
    new RegExp(`^${name} outside ${limit} and ${limit}$`),
    (m) => ({ kind: "outside", metric: m[1], limit: m[2], to: m[3] }),
  ],
  [
    new RegExp(`^${name} between ${limit} and ${limit}$`),
    (m) => ({ kind: "within", metric: m[1], limit: m[2], to: m[3] }),
  ],
  [/^during\("([^"]*)"\)$/, (m) => ({ kind: "during", metric: "", limit: m[1], to: "" })],
  [/^not during\("([^"]*)"\)$/, (m) => ({ kind: "except", metric: "", limit: m[1], to: "" })],
  [/^([a-z][a-z0-9_]*)$/, (m) => ({ kind: "is", metric: m[1], limit: "true", to: "" })],
  [/^not ([a-z][a-z0-9_]*)$/, (m) => ({ kind: "is", metric: m[1], limit: "false", to: "" })],
];

// termsOf reads a condition as terms that all have to be true; undefined where it says
// something else. What it returns is written as it was: nothing is lost either way.
export function termsOf(source: string): Term[] | undefined {
  const text = source.trim().replaceAll(/\s+/g, " ");
  if (text === "") return [];
  const out: Term[] = [];
  // The and of a band stands between its limits, and looks like that between two terms.
  let rest = text.split(" and ");
  while (rest.length) {
    const one = forms.find(([re]) => re.test(rest[0]));
    const two = rest.length > 1 && forms.find(([re]) => re.test(`${rest[0]} and ${rest[1]}`));
    if (two && /^\S+ (outside|between) /.test(rest[0])) {
      out.push(two[1](two[0].exec(`${rest[0]} and ${rest[1]}`)!));
      rest = rest.slice(2);
    } else if (one) {
      out.push(one[1](one[0].exec(rest[0])!));
      rest = rest.slice(1);
    } else return undefined;
  }
  return sourceOf(out) === text ? out : undefined;
}

// sourceOf writes terms as a condition.
export function sourceOf(terms: Term[]): string {
  return terms
    .map((t) => {
      switch (t.kind) {
        case "above":
          return `${t.metric} > ${t.limit}`;
        case "below":
          return `${t.metric} < ${t.limit}`;
        case "outside":
          return `${t.metric} outside ${t.limit} and ${t.to}`;
        case "within":
          return `${t.metric} between ${t.limit} and ${t.to}`;
        case "is":
          return t.limit === "false" ? `not ${t.metric}` : t.metric;
        case "during":
          return `during("${t.limit}")`;
        case "except":
          return `not during("${t.limit}")`;
      }
    })
    .join(" and ");
}

// draggable is the one limit of a condition that can be dragged: a number.
export function draggable(source: string): { metric: string; limit: number; upward: boolean } | undefined {
  const terms = termsOf(source)?.filter((t) => t.kind === "above" || t.kind === "below");
  if (terms?.length !== 1 || !/^-?[\d.]/.test(terms[0].limit)) return undefined;
  return { metric: terms[0].metric, limit: Number(terms[0].limit), upward: terms[0].kind === "above" };
}

// withLimit puts another number in the place of that limit.
export function withLimit(source: string, limit: number): string {
  const terms = termsOf(source) ?? [];
  return sourceOf(
    terms.map((t) => (t.kind === "above" || t.kind === "below" ? { ...t, limit: String(limit) } : t)),
  );
}
