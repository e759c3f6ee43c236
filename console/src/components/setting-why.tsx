import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import { say } from "../lib/format";
import { chosenBy } from "../lib/layers";
import { Explained } from "./explained";
import { Trouble } from "./parts";

const from: Record<string, string> = {
  model: "default of the model",
  layer: "layer",
  response: "rule",
  override: "set on this device",
};

// SettingWhy says where the value of a setting is from, and, when it is pressed, everything
// that could have given it.
export function SettingWhy({
  device,
  setting,
  source,
  name,
}: {
  device: string;
  setting: string;
  source: string;
  name?: string;
}) {
  const says = source === "model" ? from.model : [from[source], name].filter(Boolean).join(" ");
  return (
    <Explained
      label={`${setting}: ${says}. Show why`}
      look="underline decoration-dotted underline-offset-2 hover:text-press"
      says={<Steps device={device} setting={setting} />}
    >
      {says}
    </Explained>
  );
}

function Steps({ device, setting }: { device: string; setting: string }) {
  const why = useQuery({
    queryKey: ["settings", device, "why", setting],
    staleTime: 0,
    queryFn: () =>
      ask(
        api.GET("/api/v1/devices/{id}/settings/{setting}/explanation", {
          params: { path: { id: device, setting } },
        }),
      ),
  });
  if (why.isPending) return <p className="text-muted">Loading…</p>;
  if (why.error) return <Trouble>{why.error.message}</Trouble>;
  const steps = [...why.data.steps].reverse();
  return (
    <>
      <p className="pb-2">
        Why <code className="font-mono">{setting}</code> has its value. The highest that matches wins.
      </p>
      <ol>
        {steps.map((s, i) => (
          <li
            key={i}
            className={`grid grid-cols-[4rem_minmax(0,1fr)_auto] gap-x-3 border-t border-line py-1.5 ${s.wins ? "font-semibold" : "text-muted"}`}
          >
            <span>
              {s.wins ? "wins" : s.matches !== "true" ? "not here" : s.wrong ? "left out" : "below"}
            </span>
            <span className="min-w-0">
              {s.source === "layer" ? (
                <Link to={`/settings/${s.name}`} className="hover:text-press">
                  layer {s.name}
                </Link>
              ) : (
                [s.source === "model" ? "" : from[s.source], s.name].filter(Boolean).join(" ")
              )}
              {chosenBy(s) && (
                <code className="block font-mono text-[0.8125rem] font-normal break-words text-muted">
                  {chosenBy(s)}
                </code>
              )}
              {s.wrong && <span className="block font-normal text-watch">{s.wrong}</span>}
            </span>
            <span className="text-right whitespace-nowrap">
              {s.removes ? "takes it off" : say(s.gives)}{" "}
              <span className="font-normal text-muted">
                {!s.removes && typeof s.gives === "number" && why.data.display}
              </span>
            </span>
          </li>
        ))}
      </ol>
    </>
  );
}
