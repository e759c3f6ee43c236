import type { Onboarded } from "../api/client";
import { Command } from "./parts";

// Token shows what a device needs to get in, this once, and commands that work
// as they are.
export function Token({ given }: { given: Onboarded }) {
  return (
    <>
      <h3 className="pb-1 font-semibold">Token</h3>
      <p className="pb-2 text-muted">
        It is shown this once and not kept. Flash it, or give the device a new one later.
      </p>
      <Command wrap>{given.token}</Command>
      <h3 className="pt-4 pb-1 font-semibold">A first reading over MQTT</h3>
      <Command>{given.try_mqtt}</Command>
      <h3 className="pt-4 pb-1 font-semibold">or over HTTP</h3>
      <Command>{given.try_http}</Command>
    </>
  );
}
