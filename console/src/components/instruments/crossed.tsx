import type { ReactNode } from "react";
import { pointAt, useCrosshair } from "../../lib/crosshair";

// Crossed lays the crosshair of the page over a row of a time axis, and says what was there.
export function Crossed({
  from,
  to,
  says,
  children,
}: {
  from: number;
  to: number;
  says: (t: number) => string;
  children: ReactNode;
}) {
  const cross = useCrosshair();
  const part = cross === null ? -1 : (cross - from) / (to - from);
  const over = part >= 0 && part <= 1;
  return (
    <div
      className="relative"
      onPointerMove={(e) => {
        const box = e.currentTarget.getBoundingClientRect();
        pointAt(from + ((e.clientX - box.left) / box.width) * (to - from));
      }}
      onPointerLeave={() => pointAt(null)}
    >
      {children}
      {over && (
        <>
          <i
            aria-hidden
            className="pointer-events-none absolute -inset-y-1 border-l border-dashed border-muted"
            style={{ left: `${100 * part}%` }}
          />
          <span
            aria-hidden
            className="pointer-events-none absolute top-1/2 -translate-y-1/2 bg-ground/90 px-1 text-[0.8125rem] whitespace-nowrap"
            style={
              part < 0.5
                ? { left: `calc(${100 * part}% + 4px)` }
                : { right: `calc(${100 - 100 * part}% + 4px)` }
            }
          >
            {says(cross!)}
          </span>
        </>
      )}
    </div>
  );
}
