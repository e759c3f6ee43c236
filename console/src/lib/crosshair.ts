import { useSyncExternalStore } from "react";
import uPlot from "uplot";

// page is the key of the crosshair that everything with a time axis on a page shares.
export const page = "page";

const sync = uPlot.sync(page);
const heard = new Set<() => void>();
let at: number | null = null;

function stand(t: number | null) {
  if (t === at) return;
  at = t;
  heard.forEach((h) => h());
}

// What is no chart listens as one more of them.
sync.sub({
  pub: (type: string, from: uPlot, x: number) => {
    if (type === "mousemove") stand(x < 0 ? null : from.posToVal(x, "x") * 1000);
  },
} as unknown as uPlot);

// useCrosshair is the time in ms at which the crosshair of the page stands; null for nowhere.
export function useCrosshair(): number | null {
  return useSyncExternalStore(
    (h) => {
      heard.add(h);
      return () => heard.delete(h);
    },
    () => at,
  );
}

// pointed lets a chart that was drawn anew show the crosshair where it stands.
export function pointed(u: uPlot) {
  requestAnimationFrame(() => {
    if (at === null || !sync.plots.includes(u)) return;
    u.setCursor({ left: u.valToPos(at / 1000, "x"), top: u.over.clientHeight / 2 }, false);
  });
}

// pointAt puts the crosshair of the page at a time, in all charts; null takes it away.
export function pointAt(t: number | null) {
  const chart = sync.plots.find((p) => p instanceof uPlot);
  if (chart) {
    const tell = chart.setCursor as (o: { left: number; top: number }, fire?: boolean, pub?: boolean) => void;
    tell(
      t === null
        ? { left: -10, top: -10 }
        : { left: chart.valToPos(t / 1000, "x"), top: chart.over.clientHeight / 2 },
      true,
      true,
    );
  }
  stand(t);
}
