import type { LimitAhead } from "../api/client";
import { between, soon, words } from "../lib/format";

// LimitAheadNote says when a forecast gets to the limit of a rule.
export function LimitAheadNote({ limit }: { limit?: LimitAhead }) {
  if (!limit) return null;
  const rule = `limit of ${words(limit.rule)}`;
  if (limit.beyond)
    return (
      <p className="text-[0.8125rem] font-semibold" title={rule}>
        beyond its limit
      </p>
    );
  if (limit.likely) {
    return (
      <p className="text-[0.8125rem] font-semibold" title={`${rule}, ${between(limit)}`}>
        limit probably {soon(limit.likely)}
      </p>
    );
  }
  return (
    <p className="text-[0.8125rem] text-muted" title={`${rule}, with 95 %`}>
      {limit.early ? `limit not likely, but may be from ${soon(limit.early)}` : `no limit within 7 d`}
    </p>
  );
}
