import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useLocation, useNavigate, useParams } from "react-router";
import { api, ask, type JoinKey } from "../api/client";
import { Dialog, Entry } from "../components/dialog";
import { fieldLook } from "../components/field";
import { useRequests } from "../components/join-requests";
import { useTell } from "../components/notices";
import { Absent, Button, Command } from "../components/parts";
import { absolute, number, plural } from "../lib/format";
import { useTitle } from "../lib/use";
import { approvalOf, JoinKeyDialog, until } from "./join-keys";
import { RequestTable } from "./join-requests";

// JoinKeyPage is one join key: what it gives, its labels, and who came with it.
export default function JoinKeyPage() {
  const { name = "" } = useParams();
  useTitle(name);
  const tell = useTell();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const secret = (useLocation().state as { secret?: string } | null)?.secret;
  const [open, setOpen] = useState<"change" | "labels" | "revoke" | "remove">();
  const read = useQuery({
    queryKey: ["join-keys", "one", name],
    refetchInterval: 10_000,
    queryFn: () => ask(api.GET("/api/v1/join-keys/{name}", { params: { path: { name } } })),
    retry: false,
  });
  const requests = useRequests(`join_key == ${JSON.stringify(name)}`);
  if (read.error) return <Absent why={read.error.message} to="/join?way=batch" all="All join keys" />;
  const k = read.data;
  if (!k) return <p className="pt-6 text-muted">Loading…</p>;
  const close = () => setOpen(undefined);
  return (
    <>
      <p className="pt-3.5 text-muted">
        <Link to="/join?way=batch">Join</Link> › {k.join_key}
      </p>
      <div className="flex flex-wrap items-center gap-3 pt-2 pb-3.5">
        <h1 className="text-[1.375rem] font-bold">{k.join_key}</h1>
        <p className="text-muted">
          {number(k.joined)} of {number(k.cap)} joined
          {k.waiting > 0 && ` · ${number(k.waiting)} wait for you`} · {until(k)}
        </p>
        <div className="ml-auto flex flex-wrap gap-3 max-sm:ml-0">
          {!k.revoked_at && (
            <>
              <Button onClick={() => setOpen("revoke")} className="!border-urgent !text-urgent">
                Revoke
              </Button>
              <Button onClick={() => setOpen("change")}>Change</Button>
              <Button primary onClick={() => setOpen("labels")}>
                Print labels
              </Button>
            </>
          )}
          {k.revoked_at && (
            <Button onClick={() => setOpen("remove")} className="!border-urgent !text-urgent">
              Take away
            </Button>
          )}
        </div>
      </div>
      {secret && <Secret secret={secret} />}
      <dl className="grid max-w-3xl grid-cols-[auto_minmax(0,1fr)] gap-x-6 gap-y-1 border-t border-line pt-3 pb-5">
        {facts(k).map(([what, says]) => (
          <div key={what} className="contents">
            <dt className="text-muted">{what}</dt>
            <dd className="break-words">{says}</dd>
          </div>
        ))}
      </dl>
      <h2 className="pb-2 font-semibold">Who asked to join with it</h2>
      <RequestTable
        requests={requests}
        empty="Nobody has yet. A device asks with the secret of its serial:"
        ask={k}
      />
      {open === "change" && <JoinKeyDialog old={k} onClose={close} />}
      {open === "labels" && <LabelsDialog k={k} onClose={close} />}
      {open === "revoke" && (
        <Dialog
          title={`Revoke ${k.join_key}`}
          about={`Nobody joins with it any more, and that cannot be undone. ${plural(k.joined, "device")} that ${k.joined === 1 ? "has" : "have"} joined by it stay as they are.`}
          verb="Revoke"
          danger
          onClose={close}
          act={async () => {
            await ask(api.POST("/api/v1/join-keys/{name}/revoke", { params: { path: { name } } }));
            void queries.invalidateQueries({ queryKey: ["join-keys"] });
            tell(`${name} is revoked`);
          }}
        />
      )}
      {open === "remove" && (
        <Dialog
          title={`Take ${k.join_key} away`}
          about="With it goes the list of who asked. Devices that have joined by it stay."
          verb="Take away"
          danger
          onClose={close}
          act={async () => {
            await ask(api.DELETE("/api/v1/join-keys/{name}", { params: { path: { name } } }));
            void queries.invalidateQueries({ queryKey: ["join-keys"] });
            tell(`${name} is taken away`);
            navigate("/join?way=batch");
          }}
        />
      )}
    </>
  );
}

function facts(k: JoinKey): [string, string][] {
  const out: [string, string][] = [
    ["model", k.model],
    ["ids", k.device || "{serial}"],
    ["devices", approvalOf(k)],
    ["serials", k.listed ? `${number(k.listed)} listed, and no others` : "any"],
  ];
  const labels = Object.entries(k.labels ?? {});
  if (labels.length) out.push(["labels", labels.map(([key, v]) => `${key}=${v}`).join(" · ")]);
  if (k.where) out.push(["only where", k.where]);
  if (k.note) out.push(["note", k.note]);
  out.push(["made", `${k.made_by ?? ""}${k.made_at ? `, ${absolute(k.made_at)}` : ""}`]);
  return out;
}

function Secret({ secret }: { secret: string }) {
  return (
    <section className="mb-5 max-w-3xl border border-line bg-surface p-4">
      <h2 className="pb-1 font-semibold">Secret of the whole key</h2>
      <p className="pb-2 text-muted">
        Shown this once. A factory can make the secrets of its serials with it; who prints labels here needs
        it not.
      </p>
      <Command wrap>{secret}</Command>
    </section>
  );
}

// LabelsDialog saves a sheet of labels, which holds secrets and is for printing.
function LabelsDialog({ k, onClose }: { k: JoinKey; onClose: () => void }) {
  const [serials, setSerials] = useState("");
  const named = serials.split(/\s+/).filter(Boolean);
  return (
    <Dialog
      title="Print labels"
      about="A file that prints on A4: for each serial a label with its secret as a QR code. Handle it as passwords."
      verb="Save the sheet"
      ready={named.length > 0 || Boolean(k.listed)}
      onClose={onClose}
      act={async () => {
        const html = await ask(
          api.POST("/api/v1/join-keys/{name}/sheet", {
            params: { path: { name: k.join_key } },
            body: { serials: named.length ? named : undefined },
            parseAs: "text",
          }),
        );
        const url = URL.createObjectURL(new Blob([html as unknown as string], { type: "text/html" }));
        const a = document.createElement("a");
        a.href = url;
        a.download = `${k.join_key}-labels.html`;
        a.click();
        window.setTimeout(() => URL.revokeObjectURL(url), 10_000);
      }}
    >
      <Entry
        label="Serials"
        hint={k.listed ? `all ${number(k.listed)} of the key if it is empty` : "one a line"}
        id="label-serials"
      >
        <textarea
          id="label-serials"
          value={serials}
          onChange={(e) => setSerials(e.target.value)}
          rows={5}
          spellCheck={false}
          className={`${fieldLook} font-mono text-[0.8125rem]`}
        />
      </Entry>
    </Dialog>
  );
}
