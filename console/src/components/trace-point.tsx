import { Popover } from "radix-ui";
import { useRef, useState, type ReactNode } from "react";
import { useNavigate } from "react-router";
import type { Device, Property } from "../api/client";
import { useMay } from "../lib/me";
import { minuteOf, number, words } from "../lib/format";
import { blank, withKey } from "../lib/rule-text";
import { Button } from "./parts";
import type { TracePoint } from "./trace";
import { OriginTold } from "./value-origin";

// usePoint says, when a chart of a metric is pressed, where the reading of that time is from, and
// begins a rule with the value at that height as its limit.
export function usePoint(
  device: Device,
  p: Property,
): { onPoint: (p: TracePoint) => void; point: ReactNode } {
  const [point, setPoint] = useState<TracePoint>();
  const anchor = useRef<{ getBoundingClientRect: () => DOMRect }>({
    getBoundingClientRect: () => new DOMRect(),
  });
  const engineer = useMay()("engineer", true);
  const navigate = useNavigate();
  const onPoint = (at: TracePoint) => {
    anchor.current = { getBoundingClientRect: () => new DOMRect(at.x, at.y, 0, 0) };
    setPoint(at);
  };
  const limit = (upward: boolean) => {
    const text = blank({ model: device.model, metric: p.name, limit: point!.level, upward });
    const raise = `${p.name} ${upward ? ">" : "<"} ${point!.level}${p.unit ? ` '${p.unit}'` : ""}`;
    navigate("/rules/new", { state: { text: withKey(text, "raise", raise) } });
  };
  return {
    onPoint,
    point: (
      <Popover.Root open={point !== undefined} onOpenChange={(open) => !open && setPoint(undefined)}>
        <Popover.Anchor virtualRef={anchor} />
        <Popover.Portal>
          <Popover.Content
            align="start"
            sideOffset={8}
            collisionPadding={12}
            aria-label={`${words(p.name)} at a time`}
            className="z-40 max-h-[60vh] w-[min(30rem,calc(100vw-1rem))] overflow-auto border border-line bg-surface p-4 shadow-lg"
          >
            {point && (
              <>
                <p className="pb-2 text-muted">The newest reading by {minuteOf(point.at * 1000)}</p>
                <OriginTold device={device.id} metric={p.name} at={new Date(point.at * 1000).toISOString()} />
                {engineer && p.type !== "boolean" && (
                  <div className="flex flex-wrap items-center gap-2 border-t border-line pt-3">
                    <span className="text-muted">A new rule, with its limit here:</span>
                    <Button onClick={() => limit(true)}>
                      above {number(point.level)} {p.display}
                    </Button>
                    <Button onClick={() => limit(false)}>
                      below {number(point.level)} {p.display}
                    </Button>
                  </div>
                )}
              </>
            )}
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
    ),
  };
}
