import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, ask } from "../api/client";
import { watchTraffic } from "../api/live";
import { clock } from "../lib/format";
import { useNow } from "../lib/use";

// useContact asks how far a device is on its way in, again with each of its messages
// and now and then, since who gives up in a handshake is nobody's message.
export function useContact(device: string) {
  const [passed, setPassed] = useState(0);
  useEffect(() => watchTraffic(device, "", () => setPassed((n) => n + 1)), [device]);
  return useQuery({
    queryKey: ["contact", device, passed],
    placeholderData: (old) => old,
    refetchInterval: 3000,
    queryFn: () => ask(api.GET("/api/v1/devices/{id}/contact", { params: { path: { id: device } } })),
  });
}

const after = (ms: number) =>
  ms < 1000 ? `+ ${Math.round(ms)} ms` : ms < 60_000 ? `+ ${(ms / 1000).toFixed(1)} s` : undefined;

// Steps shows the way of a device in while it happens: each step with its time, or why
// it stops there and what to do.
export function Steps({ device }: { device: string }) {
  const contact = useContact(device);
  useNow(5000);
  if (!contact.data) return <p className="text-muted">Loading…</p>;
  const steps = contact.data.steps;
  const first = steps.find((s) => s.at)?.at;
  const next = steps.find((s) => s.state !== "done");
  return (
    <ol data-testid="steps">
      {steps.map((s, i) => {
        const since = s.at && first ? Date.parse(s.at) - Date.parse(first) : 0;
        return (
          <li
            key={s.step}
            data-step={s.step}
            data-state={s.state}
            className="relative grid grid-cols-[1.75rem_minmax(0,1fr)_auto] gap-x-3 pb-6 sm:grid-cols-[1.75rem_11rem_minmax(0,1fr)_auto]"
          >
            {i < steps.length - 1 && (
              <span
                aria-hidden="true"
                className={`absolute top-5 left-[0.68rem] h-full w-0.5 ${s.state === "done" ? "bg-press" : "bg-line"}`}
              />
            )}
            <StepMark state={s.state} now={s === next} />
            <span className={s.state === "waiting" ? "text-muted" : "font-semibold"}>
              {s.step[0].toUpperCase() + s.step.slice(1)}
              <span className="sr-only">: {s.state}</span>
            </span>
            <span className="max-sm:col-span-2 max-sm:col-start-2">
              {(s.state !== "waiting" || s === next || s.step === "settings confirmed") && (
                <>
                  <span
                    className={
                      s.state === "failed"
                        ? "font-semibold break-words text-urgent"
                        : "break-words text-muted"
                    }
                  >
                    {s.says}
                  </span>
                  {s.next && (s.state === "failed" || s === next) && (
                    <span className="block break-words">{s.next}</span>
                  )}
                </>
              )}
            </span>
            <span className="text-right font-mono text-[0.8125rem] whitespace-nowrap text-muted max-sm:row-start-1 max-sm:col-start-3">
              {s.at && (since > 0 && after(since) ? after(since) : clock(s.at))}
            </span>
          </li>
        );
      })}
    </ol>
  );
}

function StepMark({ state, now }: { state: string; now: boolean }) {
  if (state === "done")
    return (
      <svg viewBox="0 0 24 24" className="z-10 h-6 w-6" aria-hidden="true">
        <circle cx="12" cy="12" r="10" fill="var(--press)" />
        <path d="M7.5 12.5 10.5 15.5 16.5 9" fill="none" stroke="var(--ground)" strokeWidth="2" />
      </svg>
    );
  if (state === "failed")
    return (
      <svg viewBox="0 0 24 24" className="z-10 h-6 w-6" aria-hidden="true">
        <path d="M12 1.5 21.1 6.75V17.25L12 22.5 2.9 17.25V6.75Z" fill="var(--urgent)" />
        <path d="M12 6.5V13.5M12 16V18" stroke="var(--ground)" strokeWidth="2.2" />
      </svg>
    );
  return (
    <svg viewBox="0 0 24 24" className="z-10 h-6 w-6" aria-hidden="true">
      <circle
        cx="12"
        cy="12"
        r="9.5"
        fill="var(--ground)"
        stroke={now ? "var(--ink)" : "var(--muted)"}
        strokeWidth="1.5"
        strokeDasharray="3 3"
      />
    </svg>
  );
}

// Doctor says why a device is not in, or not well, and what to do.
export function Doctor({ device }: { device: string }) {
  const contact = useQuery({
    queryKey: ["contact", device],
    placeholderData: (old) => old,
    refetchInterval: 15_000,
    queryFn: () => ask(api.GET("/api/v1/devices/{id}/contact", { params: { path: { id: device } } })),
  });
  const found = contact.data?.findings ?? [];
  if (found.length === 0) return null;
  return (
    <section aria-label="What is wrong" className="pb-2" data-testid="doctor">
      <h2 className="pt-3 pb-1.5 font-semibold">What is wrong</h2>
      <ul>
        {found.map((f, i) => (
          <li key={i} className="border-t border-line py-2">
            <span className="text-muted">{f.about}: </span>
            <span className="break-words">{f.says}</span>
            {f.next && <span className="block break-words text-muted">{f.next}</span>}
          </li>
        ))}
      </ul>
    </section>
  );
}
