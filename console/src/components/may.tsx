import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { grantWords, meQuery, useAccess, useMay, useMayOn, type Role } from "../lib/me";
import { Dialog } from "./dialog";
import { Empty } from "./parts";

// May shows what needs a role for all devices to whoever has it, and nothing to
// others; with device, what needs it for that one.
export function May({
  role,
  device,
  some,
  children,
}: {
  role: Role;
  device?: string;
  some?: boolean; // it is enough to have it for any device
  children: ReactNode;
}) {
  const everywhere = useMay()(role, some);
  if (device !== undefined && !everywhere)
    return (
      <MayOn role={role} device={device}>
        {children}
      </MayOn>
    );
  return everywhere ? children : null;
}

function MayOn({ role, device, children }: { role: Role; device: string; children: ReactNode }) {
  return useMayOn(device)(role) ? children : null;
}

// useMayAll tells whether whoever is signed in has a role for all devices.
export const useMayAll = (role: Role) => useMay()(role);

// useMayOwn tells the same of something that somebody who has some devices may have made: it is
// for whoever has the role for all devices, and for its author.
export function useMayOwn(role: Role, author: string | undefined): boolean {
  const may = useMay();
  const { data } = useQuery(meQuery);
  return may(role) || (author !== undefined && author === data?.person && may(role, true));
}

// who names those who can grant more.
export const who = (owners: readonly string[]) =>
  owners.length === 0
    ? "An owner"
    : owners.length < 4
      ? owners.join(" or ")
      : `${owners.slice(0, 3).join(", ")} or another owner`;

// useUnseen tells of something that is not there what else it may be to whoever sees some of the
// devices: theirs to see if somebody lets them. To others it tells nothing.
export function useUnseen(): string | undefined {
  const { data: me } = useQuery(meQuery);
  if (!me || me.everywhere.viewer) return undefined;
  return `It may be called otherwise, or not be about what you see; ${who(me.owners)} can let you see more.`;
}

// Only shows a page to whoever has its role for all devices, or with some for any of them,
// and tells others why not and who could change that.
export function Only({ role, some, children }: { role: Role; some?: boolean; children: ReactNode }) {
  const { data } = useQuery(meQuery);
  const may = useMay();
  if (may(role, some) || !data) return children;
  return (
    <Empty
      title={`This page is for the role ${role}${role === "owner" || some ? "" : " for all devices"}`}
      why={`You are signed in as ${data.person}: ${data.grants.map(grantWords).join("; ") || "with no grants"}. ${who(data.owners)} can give you more.`}
    />
  );
}

// Why tells, on request, what somebody may do to a device, and by which grants.
export function Why({ device }: { device: string }) {
  const [open, setOpen] = useState(false);
  const may = useMay();
  const { data: me } = useQuery(meQuery);
  const access = useAccess(device);
  if (may("engineer") || !me || !access.data) return null;
  return (
    <>
      <button type="button" onClick={() => setOpen(true)} className="text-press hover:underline">
        What you may do here
      </button>
      {open && (
        <Dialog
          title={`What you may do to ${device}`}
          about={access.data.says}
          verb="Done"
          read
          act={async () => true}
          onClose={() => setOpen(false)}
        >
          <ul>
            {access.data.grants.map((g, i) => (
              <li key={i} className="border-t border-line py-2">
                <b className="font-semibold">{g.reaches ? "Yes" : "No"}:</b> {grantWords(g)}
                {g.team && `, from the team ${g.team}`}
                <span className="block text-muted">{g.why}</span>
              </li>
            ))}
          </ul>
          <p className="pt-2">{who(me.owners)} can give you more.</p>
        </Dialog>
      )}
    </>
  );
}
