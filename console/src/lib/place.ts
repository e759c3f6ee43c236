import { useQuery } from "@tanstack/react-query";
import { api, listed } from "../api/client";
import { meQuery } from "./me";
import { usePlace } from "./prefer";

// usePlaces asks for all places; who shows them shares the answer.
export function usePlaces(enabled = true) {
  return useQuery({
    queryKey: ["sites", ""],
    enabled,
    queryFn: () => listed(api.GET("/api/v1/sites")),
    staleTime: 60_000,
  });
}

// useSite says that a page is about a site, so that whoever prefers the time of sites
// is shown it.
export function useSite(site: string | undefined) {
  const { data: me } = useQuery(meQuery);
  const places = usePlaces(me?.preferences?.zone === "site" && Boolean(site));
  usePlace(places.data?.items.find((s) => s.site === site)?.zone);
}

// placePage is the address of the page of a site, and planOf that of its plan.
export const placePage = (site: string) => `/sites/${encodeURIComponent(site)}`;
export const planOf = (site: string) => `/api/v1/sites/${encodeURIComponent(site)}/plan`;
