import { useState } from "react";
import type { Onboarded } from "../api/client";
import { soonest } from "../lib/format";
import { Button, Choice, Command } from "./parts";

// save hands a zip file over to the browser.
export function save(name: string, base64: string) {
  const bytes = Uint8Array.from(atob(base64), (c) => c.charCodeAt(0));
  const url = URL.createObjectURL(new Blob([bytes], { type: "application/zip" }));
  const a = document.createElement("a");
  a.href = url;
  a.download = name;
  a.click();
  window.setTimeout(() => URL.revokeObjectURL(url), 10_000);
}

// Download gives the bundle of a device, this once.
export function Download({ given }: { given: Onboarded }) {
  if (!given.bundle) return null;
  return (
    <Button primary onClick={() => save(`${given.id}.zip`, given.bundle!)}>
      Download the bundle
    </Button>
  );
}

// credentialOf tells by what a device is let in.
export const credentialOf = (given: Onboarded) =>
  given.expires_at ? `certificate until ${soonest(given.expires_at)}` : "token";

// Token shows what a device needs to get in, this once, and commands that work
// as they are.
export function Token({ given }: { given: Onboarded }) {
  const [way, setWay] = useState("bundle");
  const unzip = `unzip ${given.id}.zip && cd ${given.id} && sh send.sh`;
  return (
    <>
      {given.token && (
        <>
          <h3 className="pb-1 font-semibold">Token</h3>
          <Command wrap>{given.token}</Command>
        </>
      )}
      <p className="py-2 text-muted">
        {given.token ? "The token" : "The key of the certificate"} is given this once and not kept: flash the
        bundle, or give the device another credential later.
      </p>
      <div className="flex flex-wrap items-center gap-3 pt-2 pb-2">
        <h3 className="font-semibold">Send it from here</h3>
        {given.token && (
          <Choice
            label="Way"
            value={way}
            onChange={setWay}
            options={[
              { value: "bundle", name: "The bundle" },
              { value: "mqtt", name: "MQTT, plain" },
              { value: "http", name: "HTTP, plain" },
            ]}
          />
        )}
      </div>
      {way !== "bundle" && (
        <div className="pb-1">
          <Command>read -rs TOKEN</Command>
        </div>
      )}
      <Command>{way === "mqtt" ? given.try_mqtt : way === "http" ? given.try_http : unzip}</Command>
      <p className="pt-1 text-muted">
        {way === "bundle" && /^(127\.|localhost|\[::1\])/.test(given.http_tls ?? "")
          ? "The bundle leads to this machine alone: let the service listen for devices elsewhere, under a name, before you flash it. "
          : ""}
        {way === "bundle"
          ? "It is encrypted; the bundle holds samples in Python, C and Go too."
          : "The first line asks for the token, so that it is in no history. Without TLS, for this machine alone."}
      </p>
    </>
  );
}
