import { absolute, ago } from "../lib/format";
import { useNow } from "../lib/use";
import { Button } from "./parts";

// Version is a thing as it was from a time on, with what differs from the one before.
interface Version {
  id: string;
  at: string;
  by?: string;
  verb: string;
  changed: readonly string[];
}

// VersionList lists the versions of a thing, the newest first, and takes one of the earlier.
export function VersionList<V extends Version>({
  versions,
  onTake,
}: {
  versions: readonly V[];
  onTake?: (v: V) => void; // nothing can be taken without it
}) {
  const now = useNow(15_000);
  return (
    <ol className="border-t border-line">
      {versions.map((v, i) => (
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
          {i > 0 && v.verb !== "removed" && onTake && (
            <Button className="!px-2.5 !py-1" onClick={() => onTake(v)}>
              Take this one
            </Button>
          )}
        </li>
      ))}
    </ol>
  );
}
