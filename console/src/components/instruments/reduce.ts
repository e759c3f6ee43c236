export const mean = (v: readonly number[]) => v.reduce((a, b) => a + b, 0) / v.length;

// reduce are the ways, other than the mean, in which the values of devices become one.
export const reduce: Record<string, (v: readonly number[]) => number> = {
  min: (v) => Math.min(...v),
  max: (v) => Math.max(...v),
  sum: (v) => v.reduce((a, b) => a + b, 0),
  count: (v) => v.length,
};
