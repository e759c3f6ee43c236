import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../api/client";
import { Dialog, Entry } from "./dialog";
import { fieldLook } from "./field";
import { useTell } from "./notices";
import { Button, Command } from "./parts";

// SecondFactor sets one's second factor up, and takes it off.
export function SecondFactor({ on }: { on: boolean }) {
  const [dialog, setDialog] = useState<"on" | "off">();
  const close = () => setDialog(undefined);
  return (
    <div className="pb-8">
      <h2 className="pb-2 font-semibold">Second factor</h2>
      <p className="pb-2">
        {on
          ? "A sign-in needs a code of the app on your phone."
          : "None: whoever knows your password gets in. With one, a sign-in needs a code of an app on your phone, too."}
      </p>
      <Button onClick={() => setDialog(on ? "off" : "on")}>{on ? "Take it off" : "Set one up"}</Button>
      {dialog === "on" && <SetUp onClose={close} />}
      {dialog === "off" && <TakeOff onClose={close} />}
    </div>
  );
}

const code = (id: string, value: string, onChange: (v: string) => void) => (
  <input
    id={id}
    value={value}
    onChange={(e) => onChange(e.target.value)}
    inputMode="numeric"
    autoComplete="one-time-code"
    required
    autoFocus
    className={fieldLook}
  />
);

function SetUp({ onClose }: { onClose: () => void }) {
  const queries = useQueryClient();
  const [password, setPassword] = useState("");
  const [shown, setShown] = useState("");
  const [setup, setSetup] = useState<{ secret: string; picture: string }>();
  const [codes, setCodes] = useState<string[]>();
  const act = async () => {
    if (codes) {
      await queries.invalidateQueries({ queryKey: ["me"] });
      return true;
    }
    if (!setup) setSetup(await ask(api.POST("/api/v1/me/second-factor", { body: { password } })));
    else {
      const done = await ask(api.POST("/api/v1/me/second-factor/confirm", { body: { code: shown } }));
      setCodes(done.codes);
      await queries.invalidateQueries({ queryKey: ["sessions"] });
    }
    return false;
  };
  return (
    <Dialog
      title={codes ? "Keep these codes" : "Set up a second factor"}
      about={
        codes
          ? "Each works once in place of the app, for when the phone is lost. They are shown this once."
          : setup
            ? "Read the picture with an app that makes codes, and type one that it shows."
            : "For that your password is needed once more."
      }
      read={codes !== undefined}
      verb={codes ? "Done" : setup ? "Put it in force" : "Go on"}
      ready={codes !== undefined || (setup ? shown !== "" : password !== "")}
      act={act}
      onClose={onClose}
    >
      {codes ? (
        <Command wrap>{codes.join("\n")}</Command>
      ) : setup ? (
        <>
          <img
            src={setup.picture}
            alt="The QR code of the second factor"
            className="mx-auto mb-2 size-55 bg-white"
          />
          <p className="pb-3 text-center text-muted">
            or type <code className="font-mono text-[0.8125rem] break-all">{setup.secret}</code>
          </p>
          <Entry label="A code that it shows" id="factor-code">
            {code("factor-code", shown, setShown)}
          </Entry>
        </>
      ) : (
        <Entry label="Password" id="factor-password">
          <input
            id="factor-password"
            type="password"
            value={password}
            onChange={(e) => setPassword(e.target.value)}
            autoComplete="current-password"
            required
            autoFocus
            className={fieldLook}
          />
        </Entry>
      )}
    </Dialog>
  );
}

function TakeOff({ onClose }: { onClose: () => void }) {
  const queries = useQueryClient();
  const tell = useTell();
  const [password, setPassword] = useState("");
  const [shown, setShown] = useState("");
  return (
    <Dialog
      title="Take the second factor off"
      about="From then on your password alone is enough."
      verb="Take it off"
      danger
      ready={password !== "" && shown !== ""}
      onClose={onClose}
      act={async () => {
        await ask(api.POST("/api/v1/me/second-factor/off", { body: { password, code: shown } }));
        await queries.invalidateQueries({ queryKey: ["me"] });
        tell("Your second factor is taken off");
      }}
    >
      <Entry label="Password" id="factor-password">
        <input
          id="factor-password"
          type="password"
          value={password}
          onChange={(e) => setPassword(e.target.value)}
          autoComplete="current-password"
          required
          className={fieldLook}
        />
      </Entry>
      <Entry label="Code" hint="of the app, or a recovery code" id="factor-code">
        {code("factor-code", shown, setShown)}
      </Entry>
    </Dialog>
  );
}
