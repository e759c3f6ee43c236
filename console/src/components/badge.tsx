import { rank, rem } from "../lib/format";

const shapes: Record<string, string> = {
  urgent: "M8 .8 14.3 4.4v7.2L8 15.2 1.7 11.6V4.4z",
  high: "M8 1.2 15.4 14.4H.6z",
  medium: "M8 .4 15.6 8 8 15.6.4 8z",
};

// Badge shows a priority as colour, shape and numeral at once.
export function Badge({
  priority,
  waiting = false,
  size = 16,
}: {
  priority: string;
  waiting?: boolean;
  size?: number;
}) {
  const n = rank(priority) + 1;
  const colour = `var(--${priority})`;
  return (
    <svg
      viewBox="-1 -1 18 18"
      width={rem(size)}
      height={rem(size)}
      role="img"
      aria-label={`${priority} priority${waiting ? ", unacknowledged" : ""}`}
      className={`shrink-0 ${waiting ? "blink" : ""}`}
      style={{ color: colour }}
    >
      {priority === "low" ? (
        <circle cx="8" cy="8" r="6.8" fill="var(--ground)" stroke={colour} strokeWidth="1.8" />
      ) : (
        <path d={shapes[priority]} fill={colour} stroke="var(--ground)" strokeWidth="1.2" />
      )}
      <text
        x="8"
        y={priority === "high" ? 12.6 : 11.2}
        textAnchor="middle"
        fontSize="9"
        fontWeight="700"
        fill={priority === "low" ? colour : "var(--ground)"}
      >
        {n}
      </text>
    </svg>
  );
}
