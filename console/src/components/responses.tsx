import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import { ago, plural } from "../lib/format";
import { valuesOf } from "../lib/layers";
import { useNow } from "../lib/use";
import { Dialog } from "./dialog";
import { fieldLook } from "./field";
import { May } from "./may";
import { useTell } from "./notices";
import { Button } from "./parts";

// Responses shows what rules keep on devices now, and stops it.
export function Responses() {
  const queries = useQueryClient();
  const tell = useTell();
  const now = useNow(10_000);
  const [stopping, setStopping] = useState(false);
  const found = useQuery({
    queryKey: ["responses"],
    refetchInterval: 15_000,
    queryFn: () => ask(api.GET("/api/v1/responses")),
  });
  const fresh = () =>
    Promise.all([
      queries.invalidateQueries({ queryKey: ["responses"] }),
      queries.invalidateQueries({ queryKey: ["settings"] }),
    ]);
  const act = async (call: Promise<unknown>, said: string) => {
    try {
      await call;
      await fresh();
      tell(said);
    } catch (e) {
      tell((e as Error).message, { bad: true });
    }
  };
  const r = found.data;
  if (!r || (r.responses.length === 0 && !r.stopped)) return null;
  return (
    <section
      aria-label="What rules do by themselves"
      className="mb-4 border border-line bg-surface px-4 py-2.5"
    >
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <h2 className="font-semibold">
          {r.stopped ? "All responses are stopped" : `${plural(r.responses.length, "response")} of rules now`}
        </h2>
        {r.stopped && (
          <span className="text-muted">
            {r.stopped_by && `by ${r.stopped_by} ${ago(r.stopped_at, now)}`}
            {r.why && `: ${r.why}`}
          </span>
        )}
        <span className="ml-auto">
          <May role="operator">
            {r.stopped ? (
              <Button
                primary
                onClick={() =>
                  void act(
                    ask(api.PUT("/api/v1/responses/switch", { body: { stopped: false } })),
                    "Responses act again.",
                  )
                }
              >
                Let them act again
              </Button>
            ) : (
              <Button onClick={() => setStopping(true)}>Stop all…</Button>
            )}
          </May>
        </span>
      </div>
      <ul>
        {r.responses.map((x) => (
          <li key={x.id} className="flex flex-wrap items-center gap-x-4 border-t border-line py-1.5 mt-1.5">
            <Link to={`/rules/${x.rule}`} className="font-mono text-[0.8125rem] hover:text-press">
              {x.rule}
            </Link>
            <span>
              keeps{" "}
              {valuesOf(x.set)
                .map(([k, v]) => `${k} at ${v}`)
                .join(", ")}{" "}
              on{" "}
              {x.devices.slice(0, 3).map((id, i) => (
                <span key={id}>
                  {i > 0 && ", "}
                  <Link to={`/devices/${id}`} className="text-press underline">
                    {id}
                  </Link>
                </span>
              ))}
              {x.devices.length > 3 && ` and ${x.devices.length - 3} more`}
            </span>
            <span className="text-muted">
              {x.state === "released"
                ? `released${x.released_by ? ` by ${x.released_by}` : ""}`
                : x.left
                  ? `stays, since ${x.left}`
                  : `since ${ago(x.since, now)}`}
            </span>
            {x.state !== "released" && (
              <span className="ml-auto">
                <May role="operator" some>
                  <Button
                    className="!px-2.5 !py-1"
                    onClick={() =>
                      void act(
                        ask(api.POST("/api/v1/responses/release", { body: { id: x.id } })),
                        `${x.rule} gives nothing any more on ${plural(x.devices.length, "device")}.`,
                      )
                    }
                  >
                    Release
                  </Button>
                </May>
              </span>
            )}
          </li>
        ))}
      </ul>
      {stopping && <Stop onClose={() => setStopping(false)} onDone={fresh} />}
    </section>
  );
}

function Stop({ onClose, onDone }: { onClose: () => void; onDone: () => Promise<unknown> }) {
  const [why, setWhy] = useState("");
  const [release, setRelease] = useState(false);
  return (
    <Dialog
      title="Stop all responses"
      about="No rule sets a setting or gives a command until somebody lets them act again. Alarms go on."
      verb="Stop all"
      danger
      act={async () => {
        await ask(
          api.PUT("/api/v1/responses/switch", { body: { stopped: true, release, why: why || undefined } }),
        );
        await onDone();
      }}
      onClose={onClose}
    >
      <label className="flex items-center gap-2 pb-3">
        <input type="checkbox" checked={release} onChange={(e) => setRelease(e.target.checked)} />
        take off what they keep on devices, too
      </label>
      <label htmlFor="stop-why">Why</label>
      <input
        id="stop-why"
        value={why}
        maxLength={400}
        onChange={(e) => setWhy(e.target.value)}
        className={fieldLook}
      />
    </Dialog>
  );
}
