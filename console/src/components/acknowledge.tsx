import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, ask, type Alarm } from "../api/client";
import { Button } from "./parts";
import { useTell } from "./notices";

export function Acknowledge({ alarm }: { alarm: Alarm }) {
  const tell = useTell();
  const queries = useQueryClient();
  const act = useMutation({
    mutationFn: () =>
      ask(api.POST("/api/v1/alarms/{id}/acknowledge", { params: { path: { id: alarm.id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["alarms"] }),
    onError: (e) => tell(e.message, { bad: true }),
  });
  if (alarm.state === "acknowledged")
    return <span className="text-muted">acknowledged by {alarm.acknowledged_by}</span>;
  if (alarm.state === "normal" || !alarm.may_acknowledge) return null;
  return (
    <Button
      onClick={() => act.mutate()}
      disabled={act.isPending}
      aria-label={`Acknowledge ${alarm.rule} on ${alarm.device}`}
    >
      Acknowledge
    </Button>
  );
}
