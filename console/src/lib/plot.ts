import uPlot from "uplot";
import { number } from "./format";

// ticks writes the numbers of an axis as all others are written, each with the
// decimals that the distance of the ticks needs.
export function ticks(_u: uPlot, values: (number | null)[], _axis: number, _space: number, step: number) {
  const decimals = Math.min(Math.max(0, -Math.floor(Math.log10(step) + 1e-9)), 8);
  return values.map((v) => (v === null ? "" : number(v, decimals)));
}

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

// dragged tells which times of the x axis was dragged over.
export function dragged(onZoom: (from: number, to: number) => void) {
  return (u: uPlot) => {
    const { left, width } = u.select;
    u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
    if (width > 6) onZoom(u.posToVal(left, "x"), u.posToVal(left + width, "x"));
  };
}
