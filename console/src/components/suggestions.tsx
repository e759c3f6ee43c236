import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Rule } from "../api/client";
import { number } from "../lib/format";
import { Button, Choice, Trouble } from "./parts";

const names: Record<string, string> = {
  deadband: "deadband",
  on_delay: "on-delay",
  limit: "limit",
  never: "never raised",
  always: "always raised",
};

// Suggestions shows how a rule would do better, as the data says, with what each would change.
export function Suggestions({ rule, onUse }: { rule: Rule; onUse: (change: Partial<Rule>) => void }) {
  const [span, setSpan] = useState("30d");
  const text = JSON.stringify(rule);
  const found = useQuery({
    queryKey: ["suggestions", text, span],
    retry: false,
    staleTime: 60_000,
    queryFn: () => ask(api.POST("/api/v1/suggestions", { body: { rule, span } })),
  });
  return (
    <section aria-label="Suggestions">
      <div className="flex flex-wrap items-baseline gap-x-3 pb-1.5">
        <h2 className="text-base font-semibold">Suggestions</h2>
        <p className="text-muted">from what these devices have measured</p>
        <div className="ml-auto">
          <Choice
            label="Over which time"
            value={span}
            onChange={setSpan}
            options={["7d", "30d", "90d"].map((x) => ({ value: x, name: x.replace("d", " d") }))}
          />
        </div>
      </div>
      {found.isPending ? (
        <p className="text-muted">Working them out…</p>
      ) : found.error ? (
        <Trouble>{found.error.message}</Trouble>
      ) : found.data.length === 0 ? (
        <p className="border-t border-line py-2 text-muted">The data gives nothing that would be better.</p>
      ) : (
        <ul className="border-t border-line">
          {found.data.map((s) => (
            <li key={s.kind} className="flex items-start gap-4 border-b border-line py-2.5">
              <div className="min-w-0 flex-1">
                <p className="text-base">
                  {names[s.kind]} {s.value && <b>{s.value}</b>}
                </p>
                <p className="text-muted">{s.figures}</p>
                {s.value && (
                  <p>
                    <b>
                      {number(s.before.alarms)} → {number(s.after.alarms)} alarms
                    </b>
                    {s.before.chattering > 0 &&
                      `, chattering ${number(s.before.chattering)} → ${number(s.after.chattering)}`}
                    <span className="text-muted">, judged on {s.judged_on}</span>
                  </p>
                )}
              </div>
              {s.value && (
                <Button
                  onClick={() =>
                    onUse(
                      s.kind === "deadband"
                        ? { deadband: s.rule.deadband }
                        : s.kind === "on_delay"
                          ? { on_delay: s.rule.on_delay }
                          : { raise: s.rule.raise },
                    )
                  }
                >
                  Use
                </Button>
              )}
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}
