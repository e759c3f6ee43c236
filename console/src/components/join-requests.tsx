import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, ask, listed, type JoinRequest } from "../api/client";
import { onHappened } from "../api/live";
import { plural } from "../lib/format";
import { Dialog, Entry } from "./dialog";
import { fieldLook } from "./field";
import { useTell } from "./notices";
import { Button } from "./parts";

// useRequests are those who asked to join and for whom a condition is true.
export function useRequests(where: string) {
  const queries = useQueryClient();
  useEffect(
    () =>
      onHappened((facts) => {
        if (!facts.some((f) => f.kind.includes("join"))) return;
        void queries.invalidateQueries({ queryKey: ["join-requests"] });
        void queries.invalidateQueries({ queryKey: ["join-keys"] });
      }),
    [queries],
  );
  return useQuery({
    queryKey: ["join-requests", where],
    placeholderData: (old) => old,
    refetchInterval: 5000,
    queryFn: () =>
      listed(
        api.GET("/api/v1/join-requests", { params: { query: { where: where || undefined, order: "-at" } } }),
      ),
  });
}

const none: JoinRequest[] = [];

// useWaiting are those who wait for a person, the latest in front.
export function useWaiting(): JoinRequest[] {
  return useRequests('state == "waiting"').data?.items ?? none;
}

export function useDecide() {
  const tell = useTell();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: { requests?: string[]; where?: string; admit: boolean; reason?: string }) =>
      ask(api.POST("/api/v1/join-requests/decide", { body })),
    onSuccess: (done, { admit }) =>
      tell(
        admit
          ? `${done.count === 1 ? done.requests[0]?.serial : plural(done.count, "device")} may join, and gets its credential when it asks again`
          : `${done.count === 1 ? done.requests[0]?.serial : plural(done.count, "device")} refused`,
      ),
    onError: (e) => tell(e.message, { bad: true }),
    onSettled: () => {
      void queries.invalidateQueries({ queryKey: ["join-requests"] });
      void queries.invalidateQueries({ queryKey: ["join-keys"] });
    },
  });
}

// LetIn lets one device in at once, or asks first where there is one of its serial
// already; beside it is the way to refuse it.
export function LetIn({ request: r, both = false }: { request: JoinRequest; both?: boolean }) {
  const decide = useDecide();
  const [asking, setAsking] = useState<"admit" | "refuse">();
  if (r.state === "joined" || r.state === "admitted") return null;
  return (
    <span className="flex gap-2">
      <Button
        aria-label={`Let in ${r.serial}`}
        disabled={decide.isPending}
        className="!px-2.5 !py-0.5"
        onClick={() =>
          r.again ? setAsking("admit") : decide.mutate({ requests: [r.join_request], admit: true })
        }
      >
        Let in
      </Button>
      {both && r.state === "waiting" && (
        <Button
          aria-label={`Refuse… ${r.serial}`}
          className="!px-2.5 !py-0.5"
          onClick={() => setAsking("refuse")}
        >
          Refuse…
        </Button>
      )}
      {asking && <Decision request={r} admit={asking === "admit"} onClose={() => setAsking(undefined)} />}
    </span>
  );
}

function Decision({
  request: r,
  admit,
  onClose,
}: {
  request: JoinRequest;
  admit: boolean;
  onClose: () => void;
}) {
  const decide = useDecide();
  const [reason, setReason] = useState("");
  return (
    <Dialog
      title={admit ? `Let ${r.serial} in once more` : `Refuse ${r.serial}`}
      about={
        admit
          ? `${r.reason}. It works on as it is until this one has its credential; then what it was let in by before ends at once. Do this where the device was reset, and not where it is elsewhere than it should be: this one asks from ${r.from}.`
          : "It is told so whenever it asks, until somebody lets it in."
      }
      verb={admit ? "Let it in" : "Refuse"}
      danger={!admit}
      onClose={onClose}
      act={() => decide.mutateAsync({ requests: [r.join_request], admit, reason: reason || undefined })}
    >
      {!admit && (
        <Entry label="Why" hint="for the device and the journal; may be empty" id="refuse-reason">
          <input
            id="refuse-reason"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
            maxLength={200}
            className={fieldLook}
          />
        </Entry>
      )}
    </Dialog>
  );
}
