import { Popover } from "radix-ui";
import { useRef, useState, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";
import type { Line } from "../api/client";
import { useFleet } from "../api/live";
import { both, ofGroup, useProperty } from "../lib/board";
import { minuteOf, number, plural, say, words } from "../lib/format";
import { useMay } from "../lib/me";
import { blank, withKey } from "../lib/rule-text";
import { Button } from "./parts";
import type { TracePoint } from "./trace";
import { OriginTold } from "./value-origin";

// PointOf is what a pressed line shows: a metric of one device, or what those of a group make
// together.
export type PointOf = { metric: string } & ({ device: string } | { together: Together });

interface Together {
  line: Line;
  how: string; // the aggregates
  step: string;
  where: string; // all devices of the chart
  span: string;
}

// usePoint says, when a chart is pressed, where the reading of that time is from, and begins a rule
// with the value at that height as its limit.
export function usePoint(): { onPoint: (p: TracePoint, of: PointOf) => void; point: ReactNode } {
  const [point, setPoint] = useState<{ at: TracePoint; of: PointOf }>();
  const anchor = useRef<{ getBoundingClientRect: () => DOMRect }>({
    getBoundingClientRect: () => new DOMRect(),
  });
  const onPoint = (at: TracePoint, of: PointOf) => {
    anchor.current = { getBoundingClientRect: () => new DOMRect(at.x, at.y, 0, 0) };
    setPoint({ at, of });
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
            aria-label={`${words(point?.of.metric ?? "")} at a time`}
            className="z-40 max-h-[60vh] w-[min(30rem,calc(100vw-1rem))] overflow-auto border border-line bg-surface p-4 shadow-lg"
          >
            {point &&
              ("device" in point.of ? (
                <OfDevice at={point.at} device={point.of.device} metric={point.of.metric} />
              ) : (
                <>
                  <OfGroup at={point.at} metric={point.of.metric} {...point.of.together} />
                </>
              ))}
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
    ),
  };
}

function OfGroup({
  at,
  metric,
  line,
  how,
  step,
  where,
  span,
}: { at: TracePoint; metric: string } & Together) {
  const group = line.group ?? "";
  const i = line.steps.findLastIndex((s) => Date.parse(s.at) <= at.at * 1000);
  const apart = new URLSearchParams({ metric, span, where: both(where, ofGroup(group)) });
  return (
    <>
      <p className="text-muted">
        {group.replace("=", " ")}, {minuteOf(Date.parse(line.steps[i]?.at ?? "") || at.at * 1000)}
      </p>
      <p className="py-1">
        <b>{say(line.steps[i]?.value, line)}</b> {line.display}, the {how} of {words(metric)} of{" "}
        {plural(line.members ?? 0, "device")} in {step}
      </p>
      <Link to={`/query?${apart}`} className="text-press underline">
        each device alone
      </Link>
    </>
  );
}

function OfDevice({ at, device, metric }: { at: TracePoint; device: string; metric: string }) {
  const d = useFleet().devices.get(device);
  const p = useProperty(metric, d ? [d] : []);
  const engineer = useMay()("engineer", true);
  const navigate = useNavigate();
  const limit = (upward: boolean) => {
    const text = blank({ model: d!.model, metric, limit: at.level, upward });
    const raise = `${metric} ${upward ? ">" : "<"} ${at.level}${p?.unit ? ` '${p.unit}'` : ""}`;
    navigate("/rules/new", { state: { text: withKey(text, "raise", raise) } });
  };
  return (
    <>
      <p className="pb-2 text-muted">
        <Link to={`/devices/${device}`} className="font-mono text-[0.8125rem] text-press underline">
          {device}
        </Link>
        : the newest {words(metric)} by {minuteOf(at.at * 1000)}
      </p>
      <OriginTold device={device} metric={metric} at={new Date(at.at * 1000).toISOString()} />
      {engineer && d && p && p.type !== "boolean" && (
        <div className="flex flex-wrap items-center gap-2 border-t border-line pt-3">
          <span className="text-muted">A new rule, with its limit here:</span>
          <Button onClick={() => limit(true)}>
            above {number(at.level)} {p.display}
          </Button>
          <Button onClick={() => limit(false)}>
            below {number(at.level)} {p.display}
          </Button>
        </div>
      )}
    </>
  );
}
