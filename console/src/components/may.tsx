import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { does, meQuery, useMay, type Role } from "../lib/me";
import { Empty } from "./parts";

// May shows what needs a role to whoever has it, and nothing to others.
export function May({ role, children }: { role: Role; children: ReactNode }) {
  return useMay()(role) ? children : null;
}

// Only shows a page to whoever has its role, and tells others why not.
export function Only({ role, children }: { role: Role; children: ReactNode }) {
  const { data } = useQuery(meQuery);
  const may = useMay();
  if (may(role) || !data) return children;
  return (
    <Empty
      title={`This page is for the role ${role}`}
      why={`You are signed in as ${data.person} with the role ${data.role}, which ${does[data.role]}. An owner can give you another one.`}
    />
  );
}
