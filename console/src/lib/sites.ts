import { useQuery } from "@tanstack/react-query";
import { api, listed } from "../api/client";
import { meQuery } from "./me";
import { usePlace } from "./prefer";

// useSite says that a page is about a site, so that whoever prefers the time of sites
// is shown it.
export function useSite(site: string | undefined) {
  const { data: me } = useQuery(meQuery);
  const sites = useQuery({
    queryKey: ["sites", "zones"],
    enabled: me?.preferences?.zone === "site" && Boolean(site),
    queryFn: () => listed(api.GET("/api/v1/sites")),
    staleTime: 60_000,
  });
  usePlace(sites.data?.items.find((s) => s.site === site)?.zone);
}
