import { useQuery } from "@tanstack/react-query";
import { X } from "lucide-react";
import { Fragment } from "react";
import { api, ask } from "../api/client";

// ExpressionHelp stands beside an editor of expressions: examples to take over
// and every function.
export function ExpressionHelp({ onUse, onClose }: { onUse: (source: string) => void; onClose: () => void }) {
  const help = useQuery({
    queryKey: ["expression-help"],
    staleTime: Infinity,
    queryFn: () => ask(api.GET("/api/v1/expressions/help")),
  });
  const families = [...new Set(help.data?.functions.map((f) => f.family))];
  return (
    <section
      aria-label="Help on expressions"
      tabIndex={0}
      className="relative mt-2 grid max-h-[55vh] gap-x-8 overflow-auto border border-line bg-surface px-4 py-3 lg:grid-cols-2"
    >
      <button
        type="button"
        aria-label="Close the help"
        onClick={onClose}
        className="absolute top-2 right-2 p-1 text-muted hover:text-ink"
      >
        <X size={16} />
      </button>
      <div>
        <h2 className="font-semibold">Examples</h2>
        <p className="pb-1.5 text-muted">
          A metric stands by its name; others behind <code className="font-mono">set.</code>{" "}
          <code className="font-mono">label.</code> <code className="font-mono">attr.</code>{" "}
          <code className="font-mono">device.</code> A number without a unit has that of what it is compared
          with. A value that is unknown or too old is neither true nor false.
        </p>
        <dl>
          {help.data?.examples.map((x) => (
            <div key={x.source} className="border-t border-line py-1.5">
              <dt>
                {x.task}
                {x.purpose !== "filter" && <span className="text-muted"> (in rules)</span>}
              </dt>
              <dd>
                {x.purpose === "filter" ? (
                  <button
                    type="button"
                    onClick={() => onUse(x.source)}
                    className="text-left font-mono text-[0.8125rem] break-words text-press hover:underline"
                  >
                    {x.source}
                  </button>
                ) : (
                  <code className="font-mono text-[0.8125rem] break-words">{x.source}</code>
                )}
              </dd>
            </div>
          ))}
        </dl>
      </div>
      <div>
        <h2 className="pt-3 font-semibold lg:pt-0">Functions</h2>
        <dl className="grid grid-cols-[11rem_minmax(0,1fr)] gap-x-4">
          {families.map((family) => (
            <Fragment key={family}>
              <dt className="col-span-2 border-t border-line pt-1.5 text-muted">{family}</dt>
              {help.data?.functions
                .filter((f) => f.family === family)
                .map((f) => (
                  <Fragment key={f.name}>
                    <dt className="py-0.5 font-mono text-[0.8125rem]">{f.form}</dt>
                    <dd className="py-0.5">{f.doc}</dd>
                  </Fragment>
                ))}
            </Fragment>
          ))}
        </dl>
      </div>
    </section>
  );
}
