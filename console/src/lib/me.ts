import { useQuery } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import { prefer } from "./prefer";

// roles, the one that may least first; each may do what those before it may.
export const roles = ["viewer", "operator", "engineer", "owner"] as const;
export type Role = (typeof roles)[number];

export const does: Record<Role, string> = {
  viewer: "looks, and changes nothing",
  operator: "acknowledges alarms, gives commands, changes settings of devices",
  engineer: "onboards devices, makes models, rules, layers and sites, deletes readings",
  owner: "lets people in, and backs the service up",
};

// meQuery asks who is signed in; everybody shares the answer.
export const meQuery = {
  queryKey: ["me"],
  queryFn: async () => {
    const me = await ask(api.GET("/api/v1/me"));
    prefer(me.preferences); // before anything is drawn with it
    return me;
  },
  staleTime: Infinity,
  // A page that stays open for months asks now and then, which prolongs the sign-in.
  refetchInterval: 6 * 3600_000,
  refetchIntervalInBackground: true,
};

// useMay tells whether whoever is signed in may do what needs a role for all devices,
// or with some for any of them. What they may not do is not offered; the service
// refuses it anyway.
export function useMay(): (needs: Role, some?: boolean) => boolean {
  const { data } = useQuery(meQuery);
  return (needs, some) =>
    data !== undefined &&
    (some ? roles.indexOf(data.role) >= roles.indexOf(needs) : Boolean(data.everywhere[needs]));
}

// useAccess explains what whoever is signed in may do to one device.
export function useAccess(device: string) {
  const { data: me } = useQuery(meQuery);
  return useQuery({
    enabled: device !== "" && me !== undefined && !me.screen && !me.everywhere.engineer,
    queryKey: ["me", "access", device],
    queryFn: () => ask(api.GET("/api/v1/access/explain", { params: { query: { device } } })),
    staleTime: 60_000,
    retry: false,
  });
}

// useMayOn tells the same of one device.
export function useMayOn(device: string): (needs: Role) => boolean {
  const may = useMay();
  const { data } = useAccess(device);
  return (needs) =>
    may(needs) || (data?.role ? roles.indexOf(data.role as Role) >= roles.indexOf(needs) : false);
}

// grantWords tells a grant in a sentence's part.
export const grantWords = (g: { role: string; access?: string }) =>
  g.access ? `${g.role} for ${g.access}` : `${g.role} for all devices`;
