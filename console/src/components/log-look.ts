// gravity is how the level of a line of a log is written.
export const gravity = (level: string) =>
  ({ error: "font-semibold text-urgent", warn: "font-semibold text-watch" })[level] ?? "text-muted";
