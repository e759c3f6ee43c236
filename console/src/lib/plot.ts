import uPlot from "uplot";
import { pointed } from "./crosshair";
import { number } from "./format";
import { zone } from "./prefer";
import { grown } from "./size";

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
export const look = () => ({
  muted: css("--muted"),
  font: `${grown(12)}px ${css("--font-sans") || "sans-serif"}`,
});

// dot is a length of one on the canvas of a chart, which grows with the letters of the page.
export const dot = () => grown(devicePixelRatio);

// label writes onto the canvas of a chart so that it is read across its lines.
export function label(ctx: CanvasRenderingContext2D, text: string, x: number, y: number) {
  ctx.save();
  ctx.setLineDash([]);
  ctx.lineJoin = "round";
  ctx.lineWidth = 4 * dot();
  ctx.strokeStyle = css("--ground");
  ctx.strokeText(text, x, y);
  ctx.restore();
  ctx.fillText(text, x, y);
}

// The room beside a chart for the numbers of its axis, and below it for the times.
const beside = 46;
const below = 20;
// space is how far the marks of an axis are from one another, at least.
const space = { x: 90, y: 26 };

// axes are the two of a chart: times below, and numbers beside it. They are as wide on every
// chart of a page, so that the same time stands at the same place.
export function axes(x: Partial<uPlot.Axis>, y: Partial<uPlot.Axis>): [uPlot.Axis, uPlot.Axis] {
  const { muted, font } = look();
  const both = { stroke: muted, font, gap: grown(5), ticks: { show: false } };
  return [
    { ...both, size: grown(below), space: grown(space.x), ...x },
    { ...both, size: grown(beside), space: grown(space.y), ...y },
  ];
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
  let size = grown(1);
  const resized = new ResizeObserver(() => {
    if (size === grown(1)) plot.current?.setSize({ width: holder.clientWidth, height });
    else again(); // the letters have grown with the window
    size = grown(1);
  });
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
