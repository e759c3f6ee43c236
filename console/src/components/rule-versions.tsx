import { useQuery } from "@tanstack/react-query";
import { api, ask, type Rule } from "../api/client";
import { absolute, ago } from "../lib/format";
import { useNow } from "../lib/use";
import { Button, Trouble } from "./parts";

// Versions lists the versions of a rule, with what differs, and goes back to one.
export function Versions({ rule, onTake }: { rule: Rule; onTake: (r: Rule) => void }) {
  const versions = useQuery({
    queryKey: ["rules", "versions", rule.rule],
    queryFn: () => ask(api.GET("/api/v1/rules/{name}/versions", { params: { path: { name: rule.rule } } })),
  });
  const now = useNow();
  if (versions.isPending) return <p className="text-muted">Loading…</p>;
  if (versions.error) return <Trouble>{versions.error.message}</Trouble>;
  return (
    <ol className="border-t border-line">
      {versions.data.map((v, i) => (
        <li key={v.id} className="flex items-start gap-4 border-b border-line py-2">
          <div className="min-w-0 flex-1">
            <p>
              <b>
                {v.verb} by {v.by || "the service"}
              </b>{" "}
              <span className="text-muted" title={absolute(v.at)}>
                {ago(v.at, now)}
              </span>
            </p>
            {v.changed.map((c) => (
              <p key={c} className="font-mono text-[0.8125rem] break-words">
                {c}
              </p>
            ))}
          </div>
          {i > 0 && v.verb !== "removed" && (
            <Button className="!px-2.5 !py-1" onClick={() => onTake(v.rule as Rule)}>
              Take this one
            </Button>
          )}
        </li>
      ))}
    </ol>
  );
}
