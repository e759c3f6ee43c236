import { memo, useEffect, useRef, useState } from "react";
import type { Instrument as Described } from "../../api/client";
import { seenBy, type Seen } from "../../lib/board";
import { useScreen } from "../../lib/screen";
import { Boundary } from "../boundary";
import { Alarms, MapOf, Plan, Tally, VesselField } from "./devices";
import { Frame, None, titleOf } from "./parts";
import { Roster } from "./roster";
import { Trace } from "./series";
import { Strip } from "./strip";
import { StepBars } from "./step-bars";
import { Bars, Dial, Figure, Histogram } from "./values";
import { Control, Note } from "./words";

// useNear tells whether an element is on the screen, or nearly: what is not costs nothing.
function useNear() {
  const box = useRef<HTMLDivElement>(null);
  const [near, setNear] = useState(false);
  const [height, setHeight] = useState(0);
  useEffect(() => {
    const el = box.current!;
    const seen = new IntersectionObserver(([e]) => setNear(e.isIntersecting), { rootMargin: "200px" });
    const sized = new ResizeObserver(() => setHeight(el.clientHeight));
    seen.observe(el);
    sized.observe(el);
    return () => {
      seen.disconnect();
      sized.disconnect();
    };
  }, []);
  return { box, near, height };
}

// Instrument is one instrument of a board in the room that it is given.
export const Instrument = memo(function Instrument({
  x,
  seen,
  lack,
  onChange,
}: {
  x: Described;
  seen: Seen;
  lack?: string; // what no model has any more
  onChange?: (x: Described) => void;
}) {
  const { box, near, height } = useNear();
  const s = seenBy(x, seen);
  return (
    <div ref={box} className="group/instrument relative h-full min-w-0">
      {near && !lack && !onChange && <Export x={x} seen={s} />}
      {near && (
        <Boundary place={`${x.instrument} ${JSON.stringify(x.place)}`}>
          {lack ? (
            <Frame title={titleOf(x)}>
              <None>{lack[0].toUpperCase() + lack.slice(1)}. Change this instrument, or take it off.</None>
            </Frame>
          ) : (
            <Drawn x={x} seen={s} height={height} onChange={onChange} />
          )}
        </Boundary>
      )}
    </div>
  );
});

const measures = new Set(["trace", "strip", "bars", "histogram", "figure", "dial"]);

// Export leads to the readings that an instrument shows, as a table for other programs. It is
// there for who points at the instrument, or comes to it with the keyboard.
function Export({ x, seen }: { x: Described; seen: Seen }) {
  const screen = useScreen();
  if (screen || !measures.has(x.instrument) || !x.metrics?.length) return null;
  const q = new URLSearchParams({
    metric: x.metrics.join(","),
    where: seen.where || "true",
    span: `${new Date(seen.times.from).toISOString()}..${new Date(seen.times.to).toISOString()}`,
    format: "wide",
  });
  return (
    <a
      href={`/api/v1/export?${q}`}
      download
      aria-label={`Readings of ${titleOf(x)} as CSV`}
      className="absolute top-1.5 right-0 z-10 bg-ground pl-2 text-press underline opacity-0 group-hover/instrument:opacity-100 focus:opacity-100 print:hidden"
    >
      CSV
    </a>
  );
}

function Drawn({
  x,
  seen,
  height,
  onChange,
}: {
  x: Described;
  seen: Seen;
  height: number;
  onChange?: (x: Described) => void;
}) {
  switch (x.instrument) {
    case "trace":
      return <Trace x={x} seen={seen} height={height} />;
    case "strip":
      return <Strip x={x} seen={seen} />;
    case "dial":
      return <Dial x={x} seen={seen} />;
    case "figure":
      return <Figure x={x} seen={seen} />;
    case "bars":
      return x.step ? <StepBars x={x} seen={seen} height={height} /> : <Bars x={x} seen={seen} />;
    case "histogram":
      return <Histogram x={x} seen={seen} height={height} />;
    case "roster":
      return <Roster x={x} seen={seen} />;
    case "alarms":
      return <Alarms x={x} seen={seen} />;
    case "tally":
      return <Tally x={x} seen={seen} />;
    case "vessels":
      return <VesselField x={x} seen={seen} />;
    case "map":
      return <MapOf x={x} seen={seen} />;
    case "plan":
      return <Plan x={x} seen={seen} height={height} onChange={onChange} />;
    case "note":
      return <Note x={x} />;
    case "control":
      return <Control x={x} seen={seen} />;
  }
}
