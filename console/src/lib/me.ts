import { useQuery } from "@tanstack/react-query";
import { api, ask } from "../api/client";

// roles, the one that may least first; each may do what those before it may.
export const roles = ["viewer", "operator", "engineer", "owner"] as const;
export type Role = (typeof roles)[number];

export const does: Record<Role, string> = {
  viewer: "looks at everything",
  operator: "acknowledges alarms, gives commands, changes settings of devices",
  engineer: "onboards devices, makes models, rules and sites, deletes readings",
  owner: "lets people in, and backs the service up",
};

// meQuery asks who is signed in; everybody shares the answer.
export const meQuery = {
  queryKey: ["me"],
  queryFn: () => ask(api.GET("/api/v1/me")),
  staleTime: Infinity,
};

// useMay tells whether whoever is signed in may do what needs a role. What they may
// not do is not offered; the service refuses it anyway.
export function useMay(): (needs: Role) => boolean {
  const { data } = useQuery(meQuery);
  return (needs) => data !== undefined && roles.indexOf(data.role) >= roles.indexOf(needs);
}
