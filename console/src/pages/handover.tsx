import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask, type Alarm } from "../api/client";
import { useFleet } from "../api/live";
import { Badge } from "../components/badge";
import { Button, Choice, Trouble } from "../components/parts";
import { why } from "../lib/alarms";
import { absolute, ago, called, plural, soon, words } from "../lib/format";
import { useNow, useParam, useTitle } from "../lib/use";
import { AlarmTabs } from "./alarms";

// HandoverPage is what the next shift has to know, on the screen and on paper.
export default function HandoverPage() {
  useTitle("Handover");
  const [hours, setHours] = useParam("for", "8h");
  const now = useNow(10_000);
  const found = useQuery({
    queryKey: ["alarms", "handover", hours],
    placeholderData: (old) => old,
    refetchInterval: 30_000,
    queryFn: () => ask(api.GET("/api/v1/handover", { params: { query: { for: hours } } })),
  });
  const h = found.data;
  return (
    <>
      <div className="print:hidden">
        <AlarmTabs />
      </div>
      <div className="flex flex-wrap items-center gap-x-5 gap-y-2 pb-3 print:hidden">
        <Choice
          label="How long the shift was"
          value={hours}
          onChange={setHours}
          options={["4h", "8h", "12h", "24h"].map((x) => ({
            value: x,
            name: `after ${x.replace("h", " h")}`,
          }))}
        />
        <span className="ml-auto">
          <Button onClick={() => window.print()}>Print</Button>
        </span>
      </div>
      {found.error && <Trouble>{found.error.message}</Trouble>}
      {!h ? (
        <p className="text-muted">{found.isPending ? "Loading…" : ""}</p>
      ) : (
        <article>
          <h2 className="text-lg font-bold">
            {h.open.length ? `${plural(h.open.length, "alarm")} open` : "No alarm is open"}
          </h2>
          <p className="pb-2 text-muted">
            Handover at {absolute(h.to)}: {plural(h.raised, "alarm")} raised and {h.returned} returned since{" "}
            {absolute(h.from)}.
          </p>
          <Alarms all={h.open} now={now} none="Nothing calls now." />
          <Section title="Stands aside">
            <Alarms all={h.aside} now={now} none="Nothing is shelved, suppressed or out of service." />
          </Section>
          <Section title="Said in these hours">
            {h.comments.length ? (
              <ul className="border-t border-line">
                {h.comments.map((c, i) => (
                  <li
                    key={i}
                    className="grid gap-x-4 border-b border-line py-1.5 sm:grid-cols-[8rem_minmax(0,1fr)]"
                  >
                    <span className="text-muted">
                      {soon(c.at)} {c.person}
                    </span>
                    <Link to={`/alarms/${c.alarm}`} className="whitespace-pre-line">
                      <span className="font-mono text-[0.8125rem]">{c.on}</span> {c.text}
                    </Link>
                  </li>
                ))}
              </ul>
            ) : (
              <p className="text-muted">Nobody has commented on an alarm.</p>
            )}
          </Section>
          <Section title="Maintenance, on and within a day">
            {h.coming.length ? (
              <ul className="border-t border-line">
                {h.coming.map((m) => (
                  <li key={m.maintenance} className="flex flex-wrap gap-x-4 border-b border-line py-1.5">
                    <b>{words(m.maintenance)}</b>
                    <span>{m.begins ? `begins ${soon(m.begins)}` : "on now"}</span>
                    {m.to && <span>until {soon(m.to)}</span>}
                    <span className="text-muted">
                      {plural(m.devices, "device")} {m.why}
                    </span>
                  </li>
                ))}
              </ul>
            ) : (
              <p className="text-muted">None is planned.</p>
            )}
          </Section>
        </article>
      )}
    </>
  );
}

function Section({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <section aria-label={title}>
      <h3 className="pt-4 pb-1 font-semibold">{title}</h3>
      {children}
    </section>
  );
}

function Alarms({ all, now, none }: { all: Alarm[]; now: number; none: string }) {
  const { devices } = useFleet();
  if (all.length === 0) return <p className="text-muted">{none}</p>;
  return (
    <ul className="border-t border-line">
      {all.map((a) => {
        const d = devices.get(a.device);
        const reason = why(a, soon);
        return (
          <li key={a.id} className="flex items-start gap-3 border-b border-line py-1.5">
            <Badge priority={a.priority} size={19} />
            <div className="min-w-0">
              <Link to={`/alarms/${a.id}`} className="font-semibold">
                {a.message}
              </Link>
              <p className="text-muted">
                {d ? called(d) : a.device || a.group?.split("=")[1]} · {a.state}
                {reason && ` ${reason}`}, raised {ago(a.raised_at, now)}
                {a.response && ` · ${a.response}`}
              </p>
            </div>
          </li>
        );
      })}
    </ul>
  );
}
