import type { UseQueryResult } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import type { JoinKey, JoinRequest, Listed } from "../api/client";
import { Dialog } from "../components/dialog";
import { LetIn, useDecide, useRequests } from "../components/join-requests";
import { Button, Command, Empty } from "../components/parts";
import { Things, type Column } from "../components/things";
import { absolute, ago, number, plural } from "../lib/format";
import { useNow, useParam, useTitle } from "../lib/use";

// JoinRequestsPage lists who asked to join, and lets them in or refuses them, one by one
// or all for which the condition is true.
export default function JoinRequestsPage() {
  useTitle("Who asked to join");
  const [where] = useParam("where", "");
  const requests = useRequests(where);
  return (
    <>
      <p className="pt-3.5 text-muted">
        <Link to="/join?way=batch">Join</Link> › Who asked to join
      </p>
      <h1 className="pt-2 pb-3.5 text-[1.375rem] font-bold">Who asked to join</h1>
      <RequestTable
        requests={requests}
        where={where}
        empty="Nobody has asked to join. With a join key devices do by themselves."
      />
    </>
  );
}

const state = (r: JoinRequest) =>
  r.state === "waiting" && r.again ? (
    <b className="text-watch">waits, and was here before</b>
  ) : r.state === "waiting" ? (
    <b>waits</b>
  ) : r.state === "admitted" ? (
    "let in, and not come for it yet"
  ) : (
    r.state
  );

// RequestTable shows some requests; with a condition, and those that wait can be decided
// together.
export function RequestTable({
  requests,
  where,
  empty,
  ask,
}: {
  requests: UseQueryResult<Listed<JoinRequest>, Error>;
  where?: string;
  empty: string;
  ask?: JoinKey;
}) {
  const now = useNow(5000);
  const [deciding, setDeciding] = useState<"admit" | "refuse">();
  const items = requests.data?.items ?? [];
  const waiting = items.filter((r) => r.state === "waiting");
  const columns: Column<JoinRequest>[] = [
    {
      key: "serial",
      title: "Serial",
      value: (r) => r.serial,
      cell: (r) => <span className="font-mono text-[0.875rem]">{r.serial}</span>,
    },
    {
      key: "device",
      title: "Device",
      value: (r) => r.device,
      cell: (r) => <span className="font-mono text-[0.875rem] whitespace-nowrap">{r.device}</span>,
    },
    { key: "state", title: "State", value: (r) => r.state, cell: state },
    { key: "reason", title: "Why", value: (r) => r.reason },
    { key: "from", title: "From", value: (r) => r.from },
    {
      key: "at",
      title: "Asked",
      value: (r) => r.at,
      cell: (r) => (
        <span title={`first ${absolute(r.first_at)}, last ${absolute(r.at)}`}>
          {ago(r.at, now)}
          {r.asked > 1 && `, ${number(r.asked)} times`}
        </span>
      ),
    },
    {
      key: "decide",
      title: "Decide",
      value: () => "",
      cell: (r) => (
        <span onClick={(e) => e.stopPropagation()}>
          <LetIn request={r} both />
        </span>
      ),
    },
    { key: "join_key", title: "Join key", value: (r) => r.join_key, rare: ask !== undefined },
    { key: "over", title: "Over", value: (r) => r.over, rare: true },
    { key: "credential", title: "Wants", value: (r) => r.credential, rare: true },
    { key: "decided_by", title: "Decided by", value: (r) => r.decided_by, rare: true },
  ];
  return (
    <>
      <Things
        word="request"
        of={where === undefined ? undefined : "join-request"}
        items={items}
        total={requests.data?.count}
        columns={columns}
        usual="-at"
        name={(r) => r.join_request}
        to={(r) => (r.state === "joined" || r.again ? `/devices/${r.device}` : `/join/keys/${r.join_key}`)}
        pending={requests.isPending}
        error={requests.error}
        retry={requests.refetch}
        actions={
          waiting.length > 1 && (
            <>
              <Button onClick={() => setDeciding("refuse")}>Refuse all {number(waiting.length)}…</Button>
              <Button primary onClick={() => setDeciding("admit")}>
                Let all {number(waiting.length)} in…
              </Button>
            </>
          )
        }
        card={(r) => (
          <>
            <b className="font-mono">{r.serial}</b>
            <span className="float-right text-muted">{ago(r.at, now)}</span>
            <span className="block">{state(r)}</span>
            <span className="block text-muted">{r.reason || `as ${r.device}`}</span>
            <span onClick={(e) => e.preventDefault()} className="block pt-1">
              <LetIn request={r} both />
            </span>
          </>
        )}
        empty={
          <Empty
            title="Nobody"
            why={empty}
            next={
              ask && (
                <Command>{`curl --cacert ca.crt https://SERVICE:8443/device/v1/join -d '{"serial":"SERIAL","secret":"SECRET","nonce":"'$(openssl rand -hex 16)'"}'`}</Command>
              )
            }
          />
        }
      />
      {deciding && (
        <Together requests={waiting} admit={deciding === "admit"} onClose={() => setDeciding(undefined)} />
      )}
    </>
  );
}

function Together({
  requests,
  admit,
  onClose,
}: {
  requests: JoinRequest[];
  admit: boolean;
  onClose: () => void;
}) {
  const decide = useDecide();
  const before = requests.filter((r) => r.again);
  const chosen = admit ? requests.filter((r) => !r.again) : requests;
  return (
    <Dialog
      title={
        admit ? `Let ${plural(chosen.length, "device")} in` : `Refuse ${plural(chosen.length, "device")}`
      }
      about={
        admit
          ? `Each gets its credential when it asks again.${before.length ? ` ${plural(before.length, "device")} of a serial that was here before are not among them: look at those one by one.` : ""}`
          : "They are told so whenever they ask, until somebody lets them in."
      }
      verb={admit ? "Let them in" : "Refuse them"}
      danger={!admit}
      ready={chosen.length > 0}
      onClose={onClose}
      act={() => decide.mutateAsync({ requests: chosen.map((r) => r.join_request), admit })}
    >
      <ul className="max-h-60 overflow-y-auto">
        {chosen.slice(0, 100).map((r) => (
          <li key={r.join_request} className="flex gap-4 border-t border-line py-1 font-mono text-[0.875rem]">
            <span>{r.serial}</span>
            <span className="text-muted">{r.device}</span>
          </li>
        ))}
      </ul>
      {chosen.length > 100 && <p className="pt-1 text-muted">and {number(chosen.length - 100)} more</p>}
    </Dialog>
  );
}
