// grown is a length that was said at the usual size of letters, as they are on this screen.
export const grown = (px: number) =>
  (px * parseFloat(getComputedStyle(document.documentElement).fontSize)) / 16;

// stacked is how tall each of some charts is that stand one above the other under what else a
// page has: they fill the window, as long as they stay readable and do not become walls.
export function stacked(charts: number, above: number, least: number): number {
  const each = (window.innerHeight - grown(above)) / Math.max(charts, 1) - grown(24);
  return Math.round(Math.min(Math.max(each, grown(least)), grown(220)));
}
