import { useQuery, useQueryClient } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { useEffect, useState, type ReactNode } from "react";
import { Link, NavLink, useLocation, useNavigate } from "react-router";
import { api, ask } from "../api/client";
import { useFleet } from "../api/live";
import { calling } from "../lib/alarms";
import { lasting, priorities } from "../lib/format";
import { meQuery, useMay, type Role } from "../lib/me";
import { useReturn } from "../lib/return";
import { applyTheme, theme, type Theme } from "../lib/theme";
import { useNow } from "../lib/use";
import { whenAsked } from "../lib/when-asked";
import { Badge } from "./badge";
import { Mark } from "./vessel";

// inField says whether what a key does is the business of a field.
const inField = (e: KeyboardEvent) =>
  e.target instanceof Element && e.target.closest("input, textarea, select, [contenteditable]") !== null;
const Palette = whenAsked(() => import("./palette"));

// Some says that the role for some devices is enough.
const pages: { to: string; name: string; also?: string[]; needs?: Role; some?: boolean }[] = [
  { to: "/", name: "Fleet" },
  { to: "/models", name: "Models" },
  { to: "/join", name: "Join", needs: "engineer", some: true },
  { to: "/traffic", name: "Traffic" },
  { to: "/alarms", name: "Alarms", also: ["/rules", "/maintenance"] },
  { to: "/settings", name: "Settings", also: ["/rollouts", "/commands"] },
  { to: "/boards", name: "Boards", also: ["/query"] },
];

export function Frame({
  person,
  only,
  screen,
  children,
}: {
  person: string;
  only?: boolean; // nothing but the page, over the full screen
  screen?: boolean; // and nobody who could choose anything
  children: ReactNode;
}) {
  const [finding, setFinding] = useState(false);
  // What is typed counts before the palette is there too, whose code comes when it is opened first.
  const [typed, setTyped] = useState("");
  const may = useMay();
  useReturn();
  useAwake(Boolean(only));
  const { pathname } = useLocation();
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if ((e.key === "/" && !inField(e)) || (e.key === "k" && (e.ctrlKey || e.metaKey))) {
        e.preventDefault();
        setTyped("");
        setFinding(true);
      }
    };
    // Of a key it is this event, and not that before it, which tells where its character goes: the
    // palette may have come between the two.
    const character = (e: KeyboardEvent) => {
      if (!finding || e.key.length > 1 || e.ctrlKey || e.metaKey || inField(e)) return;
      e.preventDefault();
      setTyped((was) => was + e.key);
    };
    window.addEventListener("keydown", key);
    window.addEventListener("keypress", character);
    return () => {
      window.removeEventListener("keydown", key);
      window.removeEventListener("keypress", character);
    };
  }, [finding]);
  if (only)
    return (
      <div className="min-h-screen">
        <Stale />
        <main id="main" tabIndex={-1} className="px-5 pt-2 pb-4 !outline-none">
          {children}
        </main>
        <div className="fixed right-3 bottom-3 flex gap-2 opacity-0 transition-opacity focus-within:opacity-100 hover:opacity-100">
          <button
            type="button"
            onClick={() => document.documentElement.requestFullscreen?.()}
            className="rounded-[4px] border border-line bg-surface px-2.5 py-1"
          >
            Full screen
          </button>
          {!screen && <PersonMenu person={person} only />}
        </div>
      </div>
    );
  return (
    <div className="min-h-screen">
      <a
        href="#main"
        className="sr-only focus:not-sr-only focus:absolute focus:z-50 focus:bg-surface focus:p-2"
      >
        Skip to the page
      </a>
      <header className="flex flex-wrap items-center gap-x-3 border-b border-line px-5 sm:gap-x-5 lg:h-12 lg:flex-nowrap max-lg:pt-1.5">
        <Link
          to="/"
          className="flex items-center gap-2 text-[1.0625rem] font-bold"
          aria-label="Ullage, to the fleet"
        >
          <Mark /> <span className="max-sm:hidden">Ullage</span>
        </Link>
        <nav
          aria-label="Pages"
          className="flex self-stretch max-lg:order-last max-lg:-mx-2.5 max-lg:w-full max-lg:overflow-x-auto"
        >
          {pages
            .filter((p) => !p.needs || may(p.needs, p.some))
            .map((p) => (
              <NavLink
                key={p.to}
                to={p.to}
                className={({ isActive }) =>
                  `flex items-center border-b-2 px-2.5 py-2 lg:px-3 ${isActive || p.also?.some((x) => pathname.startsWith(x)) ? "border-ink font-semibold" : "border-transparent text-muted hover:text-ink"}`
                }
              >
                {p.name}
              </NavLink>
            ))}
        </nav>
        <button
          type="button"
          onClick={() => {
            setTyped("");
            setFinding(true);
          }}
          className="flex items-center justify-between gap-8 rounded-[4px] border border-line bg-surface px-2.5 py-1 text-muted lg:ml-auto"
        >
          Go to… <kbd className="rounded max-sm:hidden border border-line px-1.5 font-mono text-xs">/</kbd>
        </button>
        <Tally />
        <PersonMenu person={person} />
      </header>
      <Stale />
      <main id="main" tabIndex={-1} className="px-5 pb-8 !outline-none">
        {children}
      </main>
      {finding && (
        <Palette typed={typed.replace(/^\//, "")} onTyped={setTyped} onClose={() => setFinding(false)} />
      )}
    </div>
  );
}

// useAwake keeps the screen of a page that is all there is from going dark; a browser
// lets go of that whenever the page is out of sight.
function useAwake(on: boolean) {
  useEffect(() => {
    if (!on || !("wakeLock" in navigator)) return;
    let lock: WakeLockSentinel | undefined;
    let over = false;
    const ask = () => {
      if (document.hidden) return;
      navigator.wakeLock.request("screen").then(
        (l) => (over ? void l.release() : (lock = l)),
        () => undefined, // such as for an empty battery
      );
    };
    ask();
    document.addEventListener("visibilitychange", ask);
    return () => {
      over = true;
      document.removeEventListener("visibilitychange", ask);
      void lock?.release();
    };
  }, [on]);
}

// Tally counts the open alarms by priority.
function Tally() {
  const { devices, service } = useFleet();
  const counts: Record<string, number> = {};
  for (const a of calling(service?.groups ?? [])) counts[a.priority] = (counts[a.priority] ?? 0) + 1;
  for (const d of devices.values())
    for (const a of d.alarms.length ? calling(d.alarms) : [])
      counts[a.priority] = (counts[a.priority] ?? 0) + 1;
  return (
    <Link to="/alarms" className="flex items-center gap-2 max-lg:ml-auto sm:gap-3">
      <span className="sr-only">Open alarms</span>
      {priorities.map((p) => (
        <span key={p} className={`flex items-center gap-1 ${counts[p] ? "font-semibold" : "text-muted"}`}>
          <span className={counts[p] ? "" : "opacity-60 grayscale"}>
            <Badge priority={p} />
          </span>
          {counts[p] ?? 0}
        </span>
      ))}
    </Link>
  );
}

function Stale() {
  const { state, heardAt } = useFleet();
  const now = useNow();
  if (state !== "stale") return null;
  return (
    <p role="alert" className="bg-ink px-5 py-1.5 font-semibold text-ground">
      {heardAt
        ? `Not live: nothing was heard from the service for ${lasting(now - heardAt)}. What you see is from then.`
        : "Not live: the service does not answer."}{" "}
      Trying again by itself.
    </p>
  );
}

function PersonMenu({ person, only }: { person: string; only?: boolean }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [chosen, setChosen] = useState<Theme>(theme());
  const may = useMay();
  const item = "cursor-pointer px-3 py-1.5 outline-none data-[highlighted]:bg-ground";
  const { data: me } = useQuery(meQuery);
  const choose = async (t: Theme) => {
    setChosen(t);
    applyTheme(t);
    await ask(api.PUT("/api/v1/me/preferences", { body: { ...me?.preferences, theme: t } }));
    await queries.invalidateQueries({ queryKey: ["me"] });
  };
  const here = useLocation();
  const begins = Boolean(me?.start);
  const begin = async () => {
    await ask(api.PUT("/api/v1/me/start", { body: { page: begins ? "" : here.pathname + here.search } }));
    await queries.invalidateQueries({ queryKey: ["me"] });
  };
  const signOut = async () => {
    await ask(api.POST("/api/v1/sign-out"));
    await queries.resetQueries();
  };
  return (
    <DropdownMenu.Root modal={false}>
      <DropdownMenu.Trigger className="rounded-[4px] border border-line bg-surface px-2.5 py-1">
        {person}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={4}
          className="z-40 min-w-44 border border-line bg-surface py-1 text-sm shadow-md"
        >
          <DropdownMenu.RadioGroup value={chosen} onValueChange={(t) => choose(t as Theme)}>
            {(["system", "light", "dark"] as const).map((t) => (
              <DropdownMenu.RadioItem key={t} value={t} className={`${item} flex justify-between gap-6`}>
                {t === "system" ? "As the system" : t === "light" ? "Light" : "Dark"}
                <DropdownMenu.ItemIndicator>✓</DropdownMenu.ItemIndicator>
              </DropdownMenu.RadioItem>
            ))}
          </DropdownMenu.RadioGroup>
          <DropdownMenu.Separator className="my-1 border-t border-line" />
          {(only
            ? []
            : ([
                ["You", "/you"],
                ["Rules", "/rules"],
                ["Sites", "/sites"],
                ...(may("owner") ? ([["People", "/people"]] as const) : []),
                ["Journal", "/journal"],
                ["Service", "/service"],
                ["Documents", "/documents"],
              ] as const)
          ).map(([name, to]) => (
            <DropdownMenu.Item key={to} className={item} onSelect={() => navigate(to)}>
              {name}
            </DropdownMenu.Item>
          ))}
          {!only && (
            <DropdownMenu.Item className={item} onSelect={begin}>
              {begins ? "Begin with the fleet again" : "Begin with this page"}
            </DropdownMenu.Item>
          )}
          {!only && (
            <DropdownMenu.Item className={item} onSelect={() => window.open("/api/docs")}>
              API reference
            </DropdownMenu.Item>
          )}
          <DropdownMenu.Item className={item} onSelect={signOut}>
            Sign out
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
