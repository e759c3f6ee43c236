import { useState } from "react";
import { api, ask, type TrafficEntry } from "../api/client";
import { plural } from "../lib/format";
import { Dialog, Entry } from "./dialog";
import { fieldLook } from "./field";
import { useTell } from "./notices";

const kinds = ["readings", "about", "applied", "reply", "log"];

// SendAs sends a message as a device, to try what becomes of it.
export function SendAs({
  device,
  like,
  onClose,
}: {
  device: string;
  like?: TrafficEntry; // what the message begins as
  onClose: () => void;
}) {
  const tell = useTell();
  const [name, setName] = useState(like?.topic ?? "readings");
  const [body, setBody] = useState(like?.body ?? "");
  return (
    <Dialog
      title={`Send as ${device}`}
      about="It is taken as if the device had sent it: readings are kept, rules judge them. The traffic and the journal say that it was you."
      verb="Send it"
      ready={body.trim() !== "" && name.trim() !== ""}
      wide
      onClose={onClose}
      act={async () => {
        const out = await ask(
          api.POST("/api/v1/devices/{id}/messages", {
            params: { path: { id: device } },
            body: { name, body },
          }),
        );
        if (out.reason) throw new Error(out.reason);
        const refused = out.refused.map((f) => `${f.pointer} ${f.sentence}`).join("; ");
        if (out.kept === 0 && refused) throw new Error(refused);
        tell(`${plural(out.kept, "value")} kept${refused && `; refused: ${refused}`}`, {
          bad: Boolean(refused),
        });
      }}
    >
      <Entry label="What it is" hint="readings, about, applied, reply or event/NAME" id="send-as-name">
        <input
          id="send-as-name"
          value={name}
          onChange={(e) => setName(e.target.value)}
          list="send-as-kinds"
          className={`${fieldLook} font-mono`}
        />
        <datalist id="send-as-kinds">
          {kinds.map((k) => (
            <option key={k} value={k} />
          ))}
        </datalist>
      </Entry>
      <Entry label="Message" id="send-as-body">
        <textarea
          id="send-as-body"
          value={body}
          onChange={(e) => setBody(e.target.value)}
          rows={8}
          spellCheck={false}
          placeholder={'{"must_temp":21.4}'}
          className={`${fieldLook} font-mono text-[0.8125rem]`}
        />
      </Entry>
    </Dialog>
  );
}
