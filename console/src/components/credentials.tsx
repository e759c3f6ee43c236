import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask, type Credential, type Device } from "../api/client";
import { absolute, ago, called, soonest } from "../lib/format";
import { useNow } from "../lib/use";
import { Dialog } from "./dialog";
import { useTell } from "./notices";
import { Button, Trouble } from "./parts";

const hour = 3600_000;

// Credentials lists by what a device is let in, how each is used, and ends one.
export function Credentials({ device: d, onClose }: { device: Device; onClose: () => void }) {
  const now = useNow(5000);
  const tell = useTell();
  const queries = useQueryClient();
  const key = ["credentials", d.id];
  const list = useQuery({
    queryKey: key,
    refetchInterval: 10_000,
    queryFn: () => ask(api.GET("/api/v1/devices/{id}/credentials", { params: { path: { id: d.id } } })),
  });
  const revoke = useMutation({
    mutationFn: (c: Credential) =>
      ask(
        api.DELETE("/api/v1/devices/{id}/credentials/{credential}", {
          params: { path: { id: d.id, credential: c.id } },
        }),
      ),
    onSuccess: (_, c) => tell(`The ${c.kind} ${c.id} is revoked`),
    onError: (e) => tell(e.message, { bad: true }),
    onSettled: () => queries.invalidateQueries({ queryKey: key }),
  });
  const model = useQuery({
    queryKey: ["model", d.model],
    staleTime: 60_000,
    queryFn: () => ask(api.GET("/api/v1/models/{name}", { params: { path: { name: d.model } } })),
  });
  const renews = model.data?.actions.find((a) => a.renews)?.name;
  const renew = useMutation({
    mutationFn: (name: string) =>
      ask(api.POST("/api/v1/devices/{id}/commands", { params: { path: { id: d.id } }, body: { name } })),
    onSuccess: () => tell(`${called(d)} is told to renew it; the new one stands here once it is made`),
    onError: (e) => tell(e.message, { bad: true }),
  });
  const working = list.data?.filter((c) => !c.revoked_at) ?? [];
  return (
    <Dialog
      title={`Credentials of ${called(d)}`}
      about="By what it is let in, the newest first."
      verb="Done"
      read
      wide
      act={async () => true}
      onClose={onClose}
    >
      {list.error && <Trouble>{list.error.message}</Trouble>}
      {list.data?.length === 0 && <p className="text-muted">It has none.</p>}
      <ul>
        {list.data?.map((c) => (
          <li key={c.id} className="flex items-start gap-3 border-t border-line py-2.5">
            <div className={`min-w-0 flex-1 ${c.revoked_at ? "text-muted" : ""}`}>
              <b className="font-mono text-[0.875rem]">{c.id}</b> {c.kind}
              {c.revoked_at
                ? `, revoked on ${absolute(c.revoked_at)}`
                : c.expires_at
                  ? `, until ${soonest(c.expires_at)}`
                  : ""}
              <span className="block text-muted">
                made on {absolute(c.created_at)};{" "}
                {c.used_at
                  ? `used ${ago(c.used_at, now)} from ${c.used_from} over ${c.used_over}`
                  : "never used"}
                {!c.revoked_at && c.replaces && `; ${c.replaces} ends when it is used first`}
              </span>
              {c.shared_at && now - Date.parse(c.shared_at) < hour && (
                <b className="block text-watch">
                  used from two addresses at once, {c.used_from} and {c.shared_with}: give each device its
                  own, and revoke this one
                </b>
              )}
            </div>
            {!c.revoked_at && (
              <Button
                aria-label={`Revoke ${c.id}`}
                className="!border-urgent !px-2.5 !py-0.5 !text-urgent"
                disabled={revoke.isPending || working.length < 2}
                title={
                  working.length < 2
                    ? "It is the only one that works; give the device a new one first, or suspend it"
                    : undefined
                }
                onClick={() => revoke.mutate(c)}
              >
                Revoke
              </Button>
            )}
          </li>
        ))}
      </ul>
      {renews && (
        <div className="flex flex-wrap items-center gap-3 border-t border-line pt-3">
          <Button disabled={renew.isPending} onClick={() => renew.mutate(renews)}>
            Have it renewed by the device
          </Button>
          <span className="text-muted">
            It is given the command <span className="font-mono text-[0.8125rem]">{renews}</span>; what it has
            works on until the new one is used.
          </span>
        </div>
      )}
    </Dialog>
  );
}
