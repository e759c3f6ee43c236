import { useQuery } from "@tanstack/react-query";
import { api, ask, type Rule } from "../api/client";
import { Trouble } from "./parts";
import { VersionList } from "./version-list";

// Versions lists the versions of a rule, with what differs, and goes back to one.
export function Versions({ rule, onTake }: { rule: Rule; onTake: (r: Rule) => void }) {
  const versions = useQuery({
    queryKey: ["rules", "versions", rule.rule],
    queryFn: () => ask(api.GET("/api/v1/rules/{name}/versions", { params: { path: { name: rule.rule } } })),
  });
  if (versions.isPending) return <p className="text-muted">Loading…</p>;
  if (versions.error) return <Trouble>{versions.error.message}</Trouble>;
  return <VersionList versions={versions.data} onTake={(v) => onTake(v.rule as Rule)} />;
}
