import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Preferences } from "../api/client";
import { zones } from "../lib/zones";
import { fieldLook } from "./field";
import { useTell } from "./notices";
import { Trouble } from "./parts";

// Prefer is how somebody wants things shown. Each choice is kept at once, and can be
// undone.
export function Prefer() {
  const queries = useQueryClient();
  const tell = useTell();
  const [trouble, setTrouble] = useState("");
  const [named, setNamed] = useState<string>();
  const all = useQuery({
    queryKey: ["preferences"],
    queryFn: () => ask(api.GET("/api/v1/me/preferences")),
  });
  if (!all.data) return all.error ? <Trouble>{all.error.message}</Trouble> : null;
  const { preferences: now, choices } = all.data;
  const keep = async (body: Preferences) => {
    const answer = await ask(api.PUT("/api/v1/me/preferences", { body }));
    queries.setQueryData(["preferences"], answer);
    await queries.invalidateQueries({ queryKey: ["me"] });
    await queries.invalidateQueries();
  };
  const choose = async (next: Preferences, what: string) => {
    setTrouble("");
    try {
      await keep(next);
      tell(what, { undo: () => keep(now) });
    } catch (e) {
      setTrouble((e as Error).message);
    }
  };
  const kind = now.zone && now.zone !== "own" && now.zone !== "site" ? "named" : now.zone || "own";
  const row = "grid grid-cols-[9rem_minmax(0,1fr)] items-center gap-x-3 pb-2";
  return (
    <>
      <h2 className="pb-2 font-semibold">Shown to you</h2>
      <div className="max-w-[34rem] pb-8" data-testid="prefer">
        <div className={row}>
          <label htmlFor="prefer-zone">Times</label>
          <select
            id="prefer-zone"
            value={named === undefined ? kind : "named"}
            className={fieldLook}
            onChange={(e) => {
              if (e.target.value === "named") return setNamed("");
              setNamed(undefined);
              choose({ ...now, zone: e.target.value }, "Times are shown as you chose");
            }}
          >
            <option value="own">in the zone of this browser</option>
            <option value="site">of the site, where a page is about one</option>
            <option value="named">always in one zone…</option>
          </select>
        </div>
        {(named !== undefined || kind === "named") && (
          <form
            className={row}
            onSubmit={(e) => {
              e.preventDefault();
              choose({ ...now, zone: named }, `Times are shown as in ${named}`).then(() =>
                setNamed(undefined),
              );
            }}
          >
            <label htmlFor="prefer-named">Time zone</label>
            <span className="flex gap-2">
              <input
                id="prefer-named"
                list="prefer-zones"
                value={named ?? now.zone ?? ""}
                placeholder="Europe/Berlin"
                onChange={(e) => setNamed(e.target.value)}
                className={fieldLook}
              />
              <button
                type="submit"
                disabled={!named}
                className="rounded-[4px] border border-line px-2.5 py-1 disabled:opacity-50"
              >
                Take it
              </button>
            </span>
            <datalist id="prefer-zones">
              {zones.map((z) => (
                <option key={z} value={z} />
              ))}
            </datalist>
          </form>
        )}
        <div className={row}>
          <label htmlFor="prefer-week">Weeks begin on</label>
          <select
            id="prefer-week"
            value={now.week ?? "monday"}
            className={fieldLook}
            onChange={(e) =>
              choose(
                { ...now, week: e.target.value as Preferences["week"] },
                `Weeks begin on ${e.target.value}`,
              )
            }
          >
            {["monday", "saturday", "sunday"].map((d) => (
              <option key={d} value={d}>
                {d[0].toUpperCase() + d.slice(1)}
              </option>
            ))}
          </select>
        </div>
        <h3 className="pt-2 pb-1.5 text-muted">Units</h3>
        <div className="grid gap-x-5 sm:grid-cols-2">
          {choices.map((c) => {
            const chosen = now.units?.[c.dimension] ?? "";
            return (
              <div
                key={c.dimension}
                className="grid grid-cols-[6.5rem_minmax(0,1fr)] items-center gap-x-3 pb-2"
              >
                <label htmlFor={`prefer-${c.dimension}`}>
                  {c.dimension[0].toUpperCase() + c.dimension.slice(1)}
                </label>
                <select
                  id={`prefer-${c.dimension}`}
                  value={chosen}
                  className={fieldLook}
                  onChange={(e) => {
                    const units = { ...now.units, [c.dimension]: e.target.value };
                    if (!e.target.value) delete units[c.dimension];
                    const display = c.units.find((u) => u.symbol === e.target.value)?.display;
                    choose(
                      { ...now, units },
                      `Every ${c.dimension} is shown in ${display ?? "the unit of its model"}`,
                    );
                  }}
                >
                  <option value="">as in the model</option>
                  {chosen && !c.units.some((u) => u.symbol === chosen) && (
                    <option value={chosen}>{chosen}</option>
                  )}
                  {c.units.map((u) => (
                    <option key={u.symbol} value={u.symbol}>
                      {u.display}
                    </option>
                  ))}
                </select>
              </div>
            );
          })}
        </div>
        <p className="text-muted">
          Pages, charts, tables and exports follow. What devices send and are sent, rules, files and sentences
          that were written before stay in the units of the models.
        </p>
        {trouble && <Trouble>{trouble}</Trouble>}
      </div>
    </>
  );
}
