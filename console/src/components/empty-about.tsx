import { useQuery } from "@tanstack/react-query";
import { api, ask, type Reserve } from "../api/client";
import { number, plural, soonest, words } from "../lib/format";
import { useScreen } from "../lib/screen";
import { useNow } from "../lib/use";

const day = 86_400_000;

// saidOf says a value of a battery or a signal.
export const saidOf = (r: Reserve, x: number) =>
  `${number(x, Math.max(r.decimals, 0))} ${r.display ?? r.unit ?? ""}`;

// EmptyAbout says the day in words: soon in days, later by its month.
export function EmptyAbout({ r, now }: { r: Reserve; now: number }) {
  if (!r.likely) return <span className="text-muted">{r.note}</span>;
  const left = (Date.parse(r.likely) - now) / day;
  const band = `with 95 % between ${soonest(r.early ?? r.likely)} and ${r.late ? soonest(r.late) : "never"}; ${words(r.rule ?? "")} says empty at ${saidOf(r, r.limit ?? 0)}${r.replaced ? `; this cell since ${soonest(r.replaced)}` : ""}`;
  return (
    <span title={band} className={left < 30 ? "font-semibold" : ""}>
      {left <= 0
        ? "it is"
        : left < 14
          ? `in ${plural(Math.max(1, Math.floor(left)), "day")}`
          : soonest(r.likely)}
    </span>
  );
}

// BatteryEmpty says of one device when its battery is empty, where that is known.
export function BatteryEmpty({ device }: { device: string }) {
  const now = useNow(60_000);
  const screen = useScreen(); // it may ask for no more than its page shows
  const found = useQuery({
    queryKey: ["upkeep", device],
    enabled: !screen,
    staleTime: 600_000,
    queryFn: () =>
      ask(
        api.GET("/api/v1/upkeep", { params: { query: { where: `device.id == ${JSON.stringify(device)}` } } }),
      ),
  });
  const r = found.data?.[0]?.battery;
  if (!r?.likely) return null;
  return (
    <>
      empty about <EmptyAbout r={r} now={now} />
    </>
  );
}
