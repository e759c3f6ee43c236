import type { LimitAhead } from "../api/client";
import { soon, words } from "../lib/format";

// LimitAheadNote says when a forecast gets to the limit of a rule.
export function LimitAheadNote({ limit, ahead }: { limit?: LimitAhead; ahead: string }) {
  if (!limit) return null;
  const rule = `limit of ${words(limit.rule)}`;
  if (limit.likely) {
    const early = limit.early && limit.early !== limit.likely ? `, not before ${soon(limit.early)}` : "";
    return (
      <p className="text-[0.8125rem] font-semibold" title={`${rule}${early}, with 95 %`}>
        limit probably {soon(limit.likely)}
      </p>
    );
  }
  return (
    <p className="text-[0.8125rem] text-muted" title={`${rule}, with 95 %`}>
      {limit.early ? `limit not likely, but may be from ${soon(limit.early)}` : `no limit within ${ahead}`}
    </p>
  );
}
