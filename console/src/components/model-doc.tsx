import { Link } from "react-router";
import type { Model, Property } from "../api/client";
import { number, say, words } from "../lib/format";
import { Range } from "./range";

// ModelDoc shows a model as documentation: what its devices measure, what they
// can be told, and what watches them.
export function ModelDoc({ model: m, quiet = false }: { model: Model; quiet?: boolean }) {
  const of = (role: string, pick: (p: Property) => boolean = () => true) =>
    m.properties.filter((p) => p.role === role && pick(p));
  const measured = of("telemetry", (p) => !p.derived);
  const derived = of("telemetry", (p) => !!p.derived);
  return (
    <div className="grid gap-7">
      {m.description && <p className="max-w-3xl text-base">{m.description}</p>}
      <Section title="Telemetry" count={measured.length} none="This model measures nothing.">
        <Table properties={measured} last="usual" />
        {m.additional && <p className="mt-2 text-muted">Telemetry of other names is taken as well.</p>}
      </Section>
      {derived.length > 0 && (
        <Section title="Derived telemetry" count={derived.length}>
          <Table properties={derived} last="formula" />
        </Section>
      )}
      {of("setting").length > 0 && (
        <Section title="Settings" count={of("setting").length}>
          <Table properties={of("setting")} last="default" />
        </Section>
      )}
      {of("attribute").length > 0 && (
        <Section title="Attributes" count={of("attribute").length}>
          <Table properties={of("attribute")} last="none" />
        </Section>
      )}
      {[
        { title: "Commands", list: m.actions, what: "input" },
        { title: "Events", list: m.events, what: "data" },
      ].map(
        (x) =>
          x.list.length > 0 && (
            <Section key={x.title} title={x.title} count={x.list.length}>
              <ul>
                {x.list.map((a) => (
                  <li
                    key={a.name}
                    className="grid gap-x-6 border-b border-line py-2 sm:grid-cols-[13rem_1fr]"
                  >
                    <code className="font-mono">{a.name}</code>
                    <span>
                      {a.title ?? words(a.name)}
                      {a.description && <span className="text-muted">. {a.description}</span>}
                      <span className="block text-muted">
                        {x.what}: {a.data}
                        {a.output && <>; gives back {a.output}</>}
                      </span>
                    </span>
                  </li>
                ))}
              </ul>
            </Section>
          ),
      )}
      {!quiet && (
        <Section
          title="Rules that watch it"
          count={m.rules.length}
          none="No rule watches devices of this model."
        >
          <p className="flex flex-wrap gap-x-4 gap-y-1">
            {m.rules.map((r) => (
              <Link key={r} to={`/alarms?rule=${r}`} className="font-mono text-press">
                {r}
              </Link>
            ))}
          </p>
        </Section>
      )}
    </div>
  );
}

function Section({
  title,
  count,
  none,
  children,
}: {
  title: string;
  count: number;
  none?: string;
  children: React.ReactNode;
}) {
  return (
    <section>
      <h2 className="flex items-baseline gap-2 text-base font-semibold">
        {title} <span className="font-normal text-muted">{count}</span>
      </h2>
      {count === 0 && none ? (
        <p className="mt-1 text-muted">{none}</p>
      ) : (
        <div className="mt-1">{children}</div>
      )}
    </section>
  );
}

function Table({
  properties,
  last,
}: {
  properties: Property[];
  last: "usual" | "default" | "formula" | "none";
}) {
  const head = { usual: "Usual", default: "Default", formula: "Computed as", none: "" }[last];
  return (
    <div className="@container overflow-x-auto" tabIndex={0}>
      <table className="w-full border-collapse">
        <thead>
          <tr className="border-b border-line text-left text-muted">
            <th className="py-1.5 pr-4 font-normal">Name</th>
            <th className="w-20 py-1.5 pr-4 font-normal">Unit</th>
            {last !== "none" && <th className="w-72 py-1.5 pr-4 text-center font-normal">May be</th>}
            {head && (
              <th className={`w-40 py-1.5 font-normal ${last === "formula" ? "" : "text-right"}`}>{head}</th>
            )}
          </tr>
        </thead>
        <tbody>
          {properties.map((p) => (
            <tr key={p.name} className="border-b border-line align-top">
              <td className="py-2 pr-4">
                {p.title ?? words(p.name)}
                <code className="ml-2 font-mono text-[0.8125rem] text-muted">{p.name}</code>
                {(p.description || p.optional || p.retention) && (
                  <span className="block text-muted">
                    {[
                      p.description,
                      p.optional && "not on every device",
                      p.retention && `kept ${p.retention}`,
                    ]
                      .filter(Boolean)
                      .join(" · ")}
                  </span>
                )}
              </td>
              <td className="py-2 pr-4">
                {p.display ?? (
                  <span className="text-muted">
                    {p.type === "nothing" ? "not stored" : p.type === "boolean" ? "yes or no" : p.type}
                  </span>
                )}
              </td>
              {last !== "none" && (
                <td className="py-2 pr-4">
                  <Range property={p} />
                </td>
              )}
              {last === "usual" && (
                <td className="py-2 text-right whitespace-nowrap">
                  {p.usual ? `${number(p.usual[0])} – ${number(p.usual[1])}` : ""}
                </td>
              )}
              {last === "default" && (
                <td className="py-2 text-right">
                  {p.default === undefined ? <span className="text-muted">none</span> : say(p.default, p)}
                  {p.kept_by_service && <span className="block text-muted">kept by the service</span>}
                </td>
              )}
              {last === "formula" && <td className="py-2 font-mono text-[0.8125rem]">{p.derived}</td>}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
