import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, ask, type Site, type Tagged } from "../api/client";
import { placePage, planOf } from "../lib/place";
import { zones } from "../lib/zones";
import { Dialog, Entry } from "./dialog";
import { fieldLook } from "./field";
import { useTell } from "./notices";

// contactsText writes down who is called, one on a line; contactsOf reads it.
const contactsText = (call: Site["call"]) =>
  (call ?? []).map((c) => [c.who, c.phone, c.mail, c.when].filter(Boolean).join(", ")).join("\n");
const contactsOf = (text: string): Site["call"] =>
  text
    .split("\n")
    .map((line) => line.split(",").map((part) => part.trim()))
    .filter((parts) => parts[0])
    .map(([who, ...rest]) => {
      const mail = rest.find((x) => x.includes("@"));
      const phone = rest.find((x) => /^\+?\d[\d ()/.-]+$/.test(x));
      const when = rest.filter((x) => x !== mail && x !== phone && x !== "").join(", ");
      return { who, phone, mail, when: when || undefined };
    });

// numberOf reads what stands in a field for degrees; NaN where that is none.
const numberOf = (text: string) => (text.trim() === "" ? undefined : Number(text.replace(",", ".")));

// SiteDialog makes a site, or changes one as it was read.
export function SiteDialog({ read, onClose }: { read?: Tagged<Site>; onClose: () => void }) {
  // What was read when the dialog opened: whoever saved meanwhile is not overwritten.
  const [{ site, tag }] = useState({ site: read?.value, tag: read?.tag ?? "" });
  const [s, setS] = useState<Site>(site ?? { site: "" });
  const [north, setNorth] = useState(site?.latitude?.toString() ?? "");
  const [east, setEast] = useState(site?.longitude?.toString() ?? "");
  const [call, setCall] = useState(contactsText(site?.call));
  const [plan, setPlan] = useState<File>();
  const queries = useQueryClient();
  const navigate = useNavigate();
  const tell = useTell();
  const text = (key: "site" | "zone" | "address" | "note") => ({
    id: `site-${key}`,
    value: s[key] ?? "",
    onChange: (e: { target: { value: string } }) => setS({ ...s, [key]: e.target.value }),
    className: fieldLook,
  });
  const act = async () => {
    const latitude = numberOf(north);
    const longitude = numberOf(east);
    if (Number.isNaN(latitude) || Number.isNaN(longitude))
      throw new Error("A position is written in degrees, like 47.701 and 8.198.");
    if (plan && plan.size > 2 << 20)
      throw new Error(`The picture has ${(plan.size / 1e6).toFixed(1)} MB; a plan may have 2.`);
    const name = s.site.trim();
    const body = {
      site: name,
      zone: s.zone || undefined,
      address: s.address || undefined,
      note: s.note || undefined,
      latitude,
      longitude,
      at: s.at,
      call: contactsOf(call),
    };
    await ask(
      api.PUT("/api/v1/sites/{name}", {
        params: { path: { name }, header: site ? { "If-Match": tag } : { "If-None-Match": "*" } },
        body,
      }),
    );
    if (plan) {
      const answer = await fetch(planOf(name), {
        method: "PUT",
        headers: { "Content-Type": "application/octet-stream" },
        body: plan,
      });
      if (!answer.ok)
        throw new Error(
          ((await answer.json()) as { detail?: string }).detail ?? "The picture was not taken.",
        );
    }
    await queries.invalidateQueries({ queryKey: ["sites"] });
    tell(site ? `${name} is saved` : `${name} is made`);
    if (!site) navigate(placePage(name));
  };
  return (
    <Dialog
      title={site ? `Change ${site.site}` : "New site"}
      about={site ? undefined : "Devices belong to it by their label site."}
      verb="Save"
      ready={s.site.trim() !== ""}
      act={act}
      onClose={onClose}
    >
      {!site && (
        <Entry label="Name" id="site-site">
          <input {...text("site")} maxLength={100} required autoFocus />
        </Entry>
      )}
      <Entry label="Time zone" hint="by its IANA name; that of the service if empty" id="site-zone">
        <input {...text("zone")} list="zones" placeholder="Europe/Berlin" />
        <datalist id="zones">
          {zones.map((z) => (
            <option key={z} value={z} />
          ))}
        </datalist>
      </Entry>
      <div className="grid grid-cols-2 gap-x-4">
        <Entry label="Latitude" hint="° north" id="site-north">
          <input
            id="site-north"
            value={north}
            inputMode="decimal"
            onChange={(e) => setNorth(e.target.value)}
            className={`${fieldLook} text-right`}
          />
        </Entry>
        <Entry label="Longitude" hint="° east" id="site-east">
          <input
            id="site-east"
            value={east}
            inputMode="decimal"
            onChange={(e) => setEast(e.target.value)}
            className={`${fieldLook} text-right`}
          />
        </Entry>
      </div>
      <Entry label="Address" id="site-address">
        <input {...text("address")} />
      </Entry>
      <Entry label="Note" hint="for whoever goes there" id="site-note">
        <textarea {...text("note")} rows={3} />
      </Entry>
      <Entry label="People to call" hint="one on a line: who, number, mail, when" id="site-call">
        <textarea
          id="site-call"
          value={call}
          onChange={(e) => setCall(e.target.value)}
          rows={3}
          placeholder="night-duty, +49 30 23125 010, at night"
          className={fieldLook}
        />
      </Entry>
      <Entry label="Plan" hint="SVG, PNG or JPEG, up to 2 MB" id="site-plan">
        <input
          id="site-plan"
          type="file"
          accept=".svg,.png,.jpg,.jpeg"
          onChange={(e) => setPlan(e.target.files?.[0])}
          className="block w-full text-muted file:mr-3 file:rounded-[4px] file:border file:border-line file:bg-ground file:px-3 file:py-1"
        />
      </Entry>
    </Dialog>
  );
}
