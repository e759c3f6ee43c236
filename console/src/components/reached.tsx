import type { Reach } from "../api/client";
import { soon, words } from "../lib/format";

// Reached says when a forecast gets to the limit of a rule.
export function Reached({ reach, ahead }: { reach?: Reach; ahead: string }) {
  if (!reach) return null;
  const rule = `limit of ${words(reach.rule)}`;
  if (reach.likely) {
    const early = reach.early && reach.early !== reach.likely ? `, not before ${soon(reach.early)}` : "";
    return (
      <p className="text-[0.8125rem] font-semibold" title={`${rule}${early}, with 95 %`}>
        limit probably {soon(reach.likely)}
      </p>
    );
  }
  return (
    <p className="text-[0.8125rem] text-muted" title={`${rule}, with 95 %`}>
      {reach.early ? `limit not likely, but may be from ${soon(reach.early)}` : `no limit within ${ahead}`}
    </p>
  );
}
