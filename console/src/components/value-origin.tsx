import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import { absolute, clock, lasting, number, say, words } from "../lib/format";
import { Explained } from "./explained";
import { Trouble } from "./parts";

// ValueOrigin says, when its value is pressed, where that is from: its times, its message, what it
// was derived from, and the limits that rules set it.
export function ValueOrigin({
  device,
  metric,
  at,
  children,
}: {
  device: string;
  metric: string;
  at?: string; // of the reading; the newest if left out
  children: ReactNode;
}) {
  return (
    <Explained
      title="Where it is from"
      about={`Where ${words(metric)} is from`}
      look="cursor-pointer rounded-[4px] decoration-dotted decoration-1 underline-offset-4 hover:underline"
      says={<OriginTold device={device} metric={metric} at={at} />}
    >
      {children}
    </Explained>
  );
}

// OriginTold is what is known of where a value is from: the newest, or that of a time.
export function OriginTold({ device, metric, at }: { device: string; metric: string; at?: string }) {
  const origin = useQuery({
    queryKey: ["origin", device, metric, at],
    staleTime: 0,
    retry: false,
    queryFn: () =>
      ask(
        api.GET("/api/v1/devices/{id}/values/{name}/origin", {
          params: { path: { id: device, name: metric }, query: { at } },
        }),
      ),
  });
  if (origin.isPending) return <p className="text-muted">Loading…</p>;
  if (origin.error) return <Trouble>{origin.error.message}</Trouble>;
  const o = origin.data;
  const late = o.arrived ? Date.parse(o.arrived) - Date.parse(o.at) : 0;
  const row = (name: string, what: ReactNode, key = name) => (
    <div key={key} className="grid grid-cols-[5.5rem_minmax(0,1fr)] gap-x-3 border-t border-line py-1.5">
      <dt className="text-muted">{name}</dt>
      <dd className="min-w-0 break-words">{what}</dd>
    </div>
  );
  return (
    <>
      <p className="pb-2">
        <b>{say(o.value)}</b> {o.unit}, as the model has it
      </p>
      <dl>
        {row("taken", absolute(o.at))}
        {o.arrived && row("arrived", late < 1000 ? "at once" : `${lasting(late)} later, ${clock(o.arrived)}`)}
        {o.quality?.map((q) => row("marked", <b className="text-watch">{q}</b>, q))}
        {o.derived && row("derived", <code className="font-mono text-[0.8125rem]">{o.derived}</code>)}
        {o.inputs?.map((x) => row("from", `${x.metric} ${say(x.value)}, ${clock(x.at)}`, x.metric))}
        {o.limits?.map((x) =>
          row(
            "rule",
            <>
              <Link to={`/rules/${x.rule}`} className="text-press underline">
                {words(x.rule)}
              </Link>
              : alarm {x.upward ? "above" : "below"} {number(x.limit)} {x.of === o.metric && o.unit}
            </>,
            x.rule + x.of,
          ),
        )}
        {o.message
          ? row(
              "message",
              <>
                <code className="block max-h-40 overflow-auto font-mono text-[0.8125rem] break-all whitespace-pre-wrap">
                  {o.message.body}
                </code>
                <span className="text-muted">
                  {o.message.topic} over {o.message.transport}, {number(o.message.size)} bytes ·{" "}
                </span>
                <Link to={`/devices/${device}/traffic`} className="text-press underline">
                  traffic
                </Link>
              </>,
            )
          : row("message", o.gone)}
      </dl>
    </>
  );
}
