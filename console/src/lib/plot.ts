import uPlot from "uplot";
import { pointed } from "./crosshair";
import { number } from "./format";
import { zone } from "./prefer";

// ticks writes the numbers of an axis as all others are written, each with the
// decimals that the distance of the ticks needs.
export function ticks(_u: uPlot, values: (number | null)[], _axis: number, _space: number, step: number) {
  let decimals = 0;
  while (decimals < 8 && Math.abs(step * 10 ** decimals - Math.round(step * 10 ** decimals)) > 1e-6)
    decimals++;
  // Large numbers would not fit beside the axis; all are in thousands or millions then.
  const most = Math.max(...values.map((v) => Math.abs(v ?? 0)));
  const [by, sign] = most >= 1e7 ? [1e6, " M"] : most >= 1e5 ? [1e3, " k"] : [1, ""];
  if (by > 1) decimals = Number.isInteger(step / by) ? 0 : 1;
  return values.map((v) => (v === null ? "" : number(v / by, decimals) + (v === 0 ? "" : sign)));
}

// inZone is a time of an axis as the clock of the zone that was chosen shows it, so
// that its ticks stand at full hours and midnights there.
export const inZone = (ts: number) => {
  const there = zone();
  return there ? uPlot.tzDate(new Date(ts * 1000), there) : new Date(ts * 1000);
};

// css reads a property of the theme.
export const css = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();

// look is what axes are written and drawn with.
export function look() {
  const size = 0.75 * parseFloat(getComputedStyle(document.documentElement).fontSize);
  return { muted: css("--muted"), font: `${size}px ${css("--font-sans") || "sans-serif"}` };
}

// mount draws a plot into a holder, again whenever the theme changes, as wide as
// the holder is. What it returns takes everything away.
export function mount(
  holder: HTMLDivElement,
  plot: { current: uPlot | undefined },
  height: number,
  draw: (width: number) => uPlot,
): () => void {
  const again = () => {
    plot.current?.destroy();
    plot.current = draw(holder.clientWidth);
    pointed(plot.current);
  };
  again();
  const resized = new ResizeObserver(() => plot.current?.setSize({ width: holder.clientWidth, height }));
  resized.observe(holder);
  window.addEventListener("theme", again);
  return () => {
    window.removeEventListener("theme", again);
    resized.disconnect();
    plot.current?.destroy();
  };
}

// alone finds the values with a gap on both sides, or nothing: a line needs two,
// so these are drawn as points. Times of other series in between are undefined.
export function alone(u: uPlot, series: number): number[] {
  const values = u.data[series];
  const found: number[] = [];
  let last = -1; // the newest value
  let before = true; // whether a gap, or nothing, came before it
  let gap = true;
  const end = () => last >= 0 && before && gap && found.push(last);
  for (let i = 0; i < values.length; i++) {
    const v = values[i];
    if (v === undefined) continue;
    if (v === null) {
      gap = true;
      continue;
    }
    end();
    last = i;
    before = gap;
    gap = false;
  }
  gap = true;
  end();
  return found;
}

// dragged tells which times of the x axis was dragged over.
export function dragged(onZoom: (from: number, to: number) => void) {
  return (u: uPlot) => {
    const { left, width } = u.select;
    u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
    if (width > 6) onZoom(u.posToVal(left, "x"), u.posToVal(left + width, "x"));
  };
}
