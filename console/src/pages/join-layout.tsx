import { useQuery } from "@tanstack/react-query";
import { useMemo, type ReactNode } from "react";
import { Link } from "react-router";
import { api, ask, type TrafficEntry } from "../api/client";
import { useFleet } from "../api/live";
import { LetIn, useWaiting } from "../components/join-requests";
import { Choice } from "../components/parts";
import { ago, number, plural } from "../lib/format";
import { useNow } from "../lib/use";

// JoinLayout has beside what is done here who cannot get in, and who was never here.
export function JoinLayout({
  way,
  onWay,
  children,
}: {
  way?: string;
  onWay?: (way: string) => void;
  children: ReactNode;
}) {
  const { devices } = useFleet();
  const now = useNow(5000);
  const expected = useMemo(
    () =>
      [...devices.values()]
        .filter((d) => d.link === "never" && d.status !== "retired")
        .sort((a, b) => a.joined_at.localeCompare(b.joined_at)),
    [devices],
  );
  const refused = useQuery({
    queryKey: ["traffic", "refused connects"],
    placeholderData: (old) => old,
    refetchInterval: 5000,
    queryFn: () => ask(api.GET("/api/v1/traffic", { params: { query: { refused: true, limit: 300 } } })),
  });
  const waiting = useWaiting();
  const outside = useMemo(() => cannotGetIn(refused.data ?? [], now), [refused.data, now]);
  return (
    <>
      <div className="flex flex-wrap items-baseline gap-x-4 py-3.5">
        <h1 className="text-[1.375rem] font-bold">Join</h1>
        <p className="text-muted">
          {number(expected.length)} expected · {number(waiting.length)}{" "}
          {waiting.length === 1 ? "waits" : "wait"} for you · {number(outside.length)} cannot get in ·{" "}
          <Link to="/documents/onboarding" className="text-press underline">
            how devices get in
          </Link>
        </p>
        {onWay && (
          <span className="ml-auto">
            <Choice
              label="What is onboarded"
              value={way ?? "one"}
              onChange={onWay}
              options={[
                { value: "one", name: "One device" },
                { value: "list", name: "A list" },
                { value: "batch", name: "A batch" },
              ]}
            />
          </span>
        )}
      </div>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-8 lg:grid-cols-[minmax(0,1fr)_minmax(20rem,26rem)]">
        <div>{children}</div>
        <aside className="lg:border-l lg:border-line lg:pl-6">
          <h2 className="pb-1.5 font-semibold">Cannot get in</h2>
          {outside.length === 0 && (
            <p className="border-t border-line py-2 text-muted">
              Nobody was turned away within the last hour.
            </p>
          )}
          <ul>
            {outside.slice(0, 8).map((o) => (
              <li key={o.key} className="border-t border-line py-2">
                {o.device ? (
                  <Link
                    to={`/traffic?device=${o.device}`}
                    className="font-mono text-[0.875rem] font-semibold"
                  >
                    {o.device}
                  </Link>
                ) : (
                  <b className="font-mono text-[0.875rem] break-all">{o.claimed || o.address}</b>
                )}
                <span className="float-right text-muted">{ago(o.at, now)}</span>
                <span className="block break-words">{o.reason}</span>
                {o.times > 1 && <span className="text-muted">{o.times} times within the last hour</span>}
              </li>
            ))}
          </ul>
          {waiting.length > 0 && (
            <>
              <h2 className="pt-6 pb-1.5 font-semibold">
                Wait for you{" "}
                <span className="font-normal text-muted">
                  {plural(waiting.length, "device")} that asked to join
                </span>
              </h2>
              <ul>
                {waiting.slice(0, 6).map((r) => (
                  <li key={r.join_request} className="flex items-start gap-3 border-t border-line py-2">
                    <div className="min-w-0 flex-1">
                      <b className="font-mono text-[0.875rem] break-all">{r.serial}</b>
                      <span className="float-right text-muted">{ago(r.at, now)}</span>
                      <span className={`block ${r.again ? "font-semibold text-watch" : "text-muted"}`}>
                        {r.again ? r.reason : `as ${r.device}, from ${r.from}`}
                      </span>
                    </div>
                    <LetIn request={r} />
                  </li>
                ))}
              </ul>
              <p className="border-t border-line pt-2">
                <Link to='/join/requests?where=state+%3D%3D+"waiting"' className="text-press underline">
                  all that asked to join
                </Link>
              </p>
            </>
          )}
          <h2 className="pt-6 pb-1.5 font-semibold">
            Expected{" "}
            <span className="font-normal text-muted">
              {expected.length > 0 && `${number(expected.length)} that have never been here`}
            </span>
          </h2>
          {expected.length === 0 && (
            <p className="border-t border-line py-2 text-muted">Every device has been heard.</p>
          )}
          <ul>
            {expected.slice(0, 12).map((d) => (
              <li key={d.id} className="flex gap-3 border-t border-line py-1.5">
                <Link to={`/devices/${d.id}`} className="font-mono text-[0.875rem]">
                  {d.id}
                </Link>
                <span className="ml-auto text-muted">{ago(d.joined_at, now)}</span>
              </li>
            ))}
          </ul>
          {expected.length > 12 && (
            <p className="border-t border-line pt-2">
              <Link to="/?view=list&health=awaited" className="text-press underline">
                all {number(expected.length)}
              </Link>
            </p>
          )}
        </aside>
      </div>
    </>
  );
}

interface Outside {
  key: string;
  device?: string;
  claimed?: string;
  address: string;
  at: string;
  reason: string;
  times: number;
}

// cannotGetIn gathers who was turned away within the last hour, each once, the latest
// in front. Whoever got in since is not among them.
function cannotGetIn(entries: TrafficEntry[], now: number): Outside[] {
  const out = new Map<string, Outside>();
  for (const e of entries) {
    if ((e.topic !== "connect" && e.topic !== "handshake" && e.topic !== "join") || !e.reason) continue;
    if (now - Date.parse(e.at) > 3600_000) continue;
    const address = (e.remote ?? "").replace(/:\d+$/, "");
    const key = e.device ?? (e.claimed ? `${e.claimed} ${address}` : address);
    const had = out.get(key);
    if (had) had.times++;
    else
      out.set(key, {
        key,
        device: e.device,
        claimed: e.claimed,
        address,
        at: e.at,
        reason: e.reason,
        times: 1,
      });
  }
  return [...out.values()];
}
