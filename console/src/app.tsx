import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, type ComponentType } from "react";
import { Navigate, Route, Routes, useLocation } from "react-router";
import { Refusal } from "./api/client";
import { missed, onHappened, startLive } from "./api/live";
import { Boundary } from "./components/boundary";
import { Frame } from "./components/frame";
import { Only } from "./components/may";
import { Notices } from "./components/notices";
import { Empty } from "./components/parts";
import { FleetPage } from "./pages/fleet";
import { meQuery } from "./lib/me";
import { wasScreen } from "./lib/screen";
import { whenAsked } from "./lib/when-asked";
import { SignInPage } from "./pages/sign-in";

// page is one whose code is loaded when somebody goes there.
const page = (load: () => Promise<{ default: ComponentType }>) =>
  whenAsked(load, <p className="p-6 text-muted">Loading…</p>);

const DevicePage = page(() => import("./pages/device"));
const AlarmPage = page(() => import("./pages/alarm"));
const AlarmPerformancePage = page(() => import("./pages/alarm-performance"));
const HandoverPage = page(() => import("./pages/handover"));
const MaintenancePage = page(() => import("./pages/maintenance"));
const AlarmsPage = page(() => import("./pages/alarms"));
const JoinPage = page(() => import("./pages/join"));
const JoinKeyPage = page(() => import("./pages/join-key"));
const JoinRequestsPage = page(() => import("./pages/join-requests"));
const JournalPage = page(() => import("./pages/journal"));
const DocumentsPage = page(() => import("./pages/documents"));
const BoardsPage = page(() => import("./pages/boards"));
const BoardRotationPage = page(() => import("./pages/board-rotation"));
const OwnBoardPage = page(() => import("./pages/board").then((m) => ({ default: m.OwnBoardPage })));
const MadeBoardPage = page(() => import("./pages/board").then((m) => ({ default: m.MadeBoardPage })));
const CommandJobPage = page(() => import("./pages/command-job"));
const SettingsPage = page(() => import("./pages/settings"));
const LayerPage = page(() => import("./pages/layer"));
const RolloutPage = page(() => import("./pages/rollout"));
const SitesPage = page(() => import("./pages/sites").then((m) => ({ default: m.SitesPage })));
const SitePage = page(() => import("./pages/sites").then((m) => ({ default: m.SitePage })));
const RulesPage = page(() => import("./pages/rules").then((m) => ({ default: m.RulesPage })));
const RulePage = page(() => import("./pages/rules").then((m) => ({ default: m.RulePage })));
const ModelsPage = page(() => import("./pages/models"));
const ModelPage = page(() => import("./pages/model"));
const ModelEditPage = page(() => import("./pages/model-edit"));
const QueryPage = page(() => import("./pages/query"));
const ServicePage = page(() => import("./pages/service"));
const PeoplePage = page(() => import("./pages/people").then((m) => ({ default: m.PeoplePage })));
const PersonPage = page(() => import("./pages/people").then((m) => ({ default: m.PersonPage })));
const TeamsPage = page(() => import("./pages/teams").then((m) => ({ default: m.TeamsPage })));
const TeamPage = page(() => import("./pages/teams").then((m) => ({ default: m.TeamPage })));
const KeysPage = page(() => import("./pages/keys").then((m) => ({ default: m.KeysPage })));
const KeyPage = page(() => import("./pages/keys").then((m) => ({ default: m.KeyPage })));
const SignInsPage = page(() => import("./pages/keys").then((m) => ({ default: m.SignInsPage })));
const YouPage = page(() => import("./pages/you"));
const ActivatePage = page(() => import("./pages/activate"));
const ScreenPage = page(() => import("./pages/screen"));
const TrafficPage = page(() => import("./pages/traffic"));

// What is opened most from a bookmark is loaded beside the question who is there.
const ahead: Record<string, { begin: () => Promise<void> }> = {
  devices: DevicePage,
  alarms: AlarmsPage,
  boards: OwnBoardPage,
  sites: SitePage,
  traffic: TrafficPage,
  settings: SettingsPage,
  join: JoinPage,
  query: QueryPage,
};
// Where that fails, the page itself says so.
void ahead[window.location.pathname.split("/")[1]]?.begin().catch(() => undefined);

// The answers that show something of a kind.
const showing: Record<string, string[]> = {
  alarm: ["alarms", "alarm", "rules", "causes"],
  link: ["causes"],
  maintenance: ["maintenances", "alarms"],
  command: ["commands"],
  model: ["models", "model"],
  device: ["models", "model"],
  setting: ["settings", "layers"],
  layer: ["layers", "settings"],
  layers: ["layers", "settings"],
  rollout: ["layers", "settings"],
  response: ["responses", "settings"],
  responses: ["responses"],
  rule: ["rules", "explain", "alarms"],
  attributes: ["model"],
  site: ["sites"],
  board: ["boards"],
  person: ["people", "me"],
  team: ["teams", "people", "me"],
  key: ["keys"],
  access: ["me", "models", "model", "rules", "sites", "alarms"],
  signed: ["people", "sessions"],
  "sign-in": ["people", "sessions"],
  password: ["people", "sessions"],
};

// shownBy names the answers that show something of a kind. What was missed may be anything.
function shownBy(kind: string): string[] {
  return [
    "journal",
    ...(kind === missed ? Object.values(showing).flat() : (showing[kind.split(" ")[0]] ?? [])),
  ];
}

// How often those are asked for that changes are not told of.
const unheardEvery = 30_000;

const wasHere = "ullage-signed-in";

// sameQuery reports whether an address is the page of a screen, in whatever order its
// parameters stand. Pages leave out what is usual.
function sameQuery(search: string, page: string): boolean {
  const [a, b] = [new URLSearchParams(search), new URL(page, window.location.origin).searchParams];
  return location.pathname === pathOf(page) && [...a].every(([k, v]) => b.get(k) === v);
}

const pathOf = (page: string) => new URL(page, window.location.origin).pathname;

export function App() {
  const queries = useQueryClient();
  const me = useQuery(meQuery);
  useEffect(() => {
    const out = () => queries.resetQueries({ queryKey: ["me"] });
    window.addEventListener("signed-out", out);
    return () => window.removeEventListener("signed-out", out);
  }, [queries]);
  // Somebody who was signed in most likely still is: the stream does not wait
  // for the answer.
  const units = JSON.stringify(me.data?.preferences?.units);
  const signedIn = me.data ? true : me.isPending ? localStorage.getItem(wasHere) !== null : false;
  useEffect(() => {
    if (!me.isPending) {
      if (me.data) localStorage.setItem(wasHere, "yes");
      else localStorage.removeItem(wasHere);
    }
  }, [me.isPending, me.data]);
  useEffect(() => {
    if (!signedIn) return;
    return startLive();
  }, [signedIn, units]);

  // What was done makes what shows it be asked for again, a few times a second at most. Whoever
  // sees some of the devices is told what was done with those and nothing else, since that would
  // tell of what others do; what they see of models, sites and boards is asked for now and then.
  const unheard = Boolean(me.data && !me.data.everywhere.viewer);
  useEffect(() => {
    const stale = new Set<string>();
    let timer = 0;
    const flush = () => {
      timer = 0;
      for (const key of stale) queries.invalidateQueries({ queryKey: [key] });
      stale.clear();
    };
    const take = (facts: { kind: string }[]) => {
      for (const f of facts) for (const key of shownBy(f.kind)) stale.add(key);
      timer ||= window.setTimeout(flush, 300);
    };
    const stop = onHappened(take);
    const again = unheard ? window.setInterval(() => take([{ kind: missed }]), unheardEvery) : 0;
    return () => {
      stop();
      window.clearTimeout(timer);
      window.clearInterval(again);
    };
  }, [queries, unheard]);

  const location = useLocation();
  const place = location.pathname;
  if (place === "/activate" || place === "/screen")
    return <Boundary place={place}>{place === "/screen" ? <ScreenPage /> : <ActivatePage />}</Boundary>;
  if (me.isPending) return null;
  if (!me.data) {
    const status = me.error instanceof Refusal ? me.error.status : 0;
    if (status === 401 && wasScreen()) return <Navigate to="/screen" replace />;
    return <SignInPage trouble={status === 401 ? undefined : me.error?.message} />;
  }
  const start = me.data.start;
  // Whoever begins has their page; with only there is no other.
  const first =
    start &&
    (start.only
      ? me.data.screen
        ? place + location.search !== start.page && !sameQuery(location.search, start.page)
        : place !== pathOf(start.page)
      : location.key === "default" && place === "/" && !location.search);
  if (first) return <Navigate to={start.page} replace />;
  return (
    <Notices>
      <Frame person={me.data.person} only={start?.only} screen={me.data.screen}>
        <Boundary place={place}>
          <Routes>
            <Route path="/" element={<FleetPage />} />
            <Route path="/devices/:id/*" element={<DevicePage />} />
            <Route path="/models" element={<ModelsPage />} />
            <Route
              path="/models/new"
              element={
                <Only role="engineer">
                  <ModelEditPage />
                </Only>
              }
            />
            <Route path="/models/:name" element={<ModelPage />} />
            <Route
              path="/models/:name/edit"
              element={
                <Only role="engineer">
                  <ModelEditPage />
                </Only>
              }
            />
            <Route path="/query" element={<QueryPage />} />
            <Route path="/alarms" element={<AlarmsPage />} />
            <Route path="/alarms/:id" element={<AlarmPage />} />
            <Route path="/alarms/performance" element={<AlarmPerformancePage />} />
            <Route path="/alarms/handover" element={<HandoverPage />} />
            <Route path="/maintenance" element={<MaintenancePage />} />
            <Route path="/rules" element={<RulesPage />} />
            <Route path="/rules/:name" element={<RulePage />} />
            <Route path="/settings" element={<SettingsPage />} />
            <Route path="/settings/:name" element={<LayerPage />} />
            <Route path="/boards" element={<BoardsPage />} />
            <Route path="/boards/made/in-turn" element={<BoardRotationPage />} />
            <Route path="/boards/:name" element={<OwnBoardPage />} />
            <Route path="/boards/made/:kind" element={<MadeBoardPage />} />
            <Route path="/boards/made/:kind/:of" element={<MadeBoardPage />} />
            <Route path="/commands/:id" element={<CommandJobPage />} />
            <Route path="/rollouts/:id" element={<RolloutPage />} />
            <Route path="/sites" element={<SitesPage />} />
            <Route path="/sites/:name" element={<SitePage />} />
            <Route
              path="/join"
              element={
                <Only role="engineer" some>
                  <JoinPage />
                </Only>
              }
            />
            <Route
              path="/join/keys/:name"
              element={
                <Only role="engineer" some>
                  <JoinKeyPage />
                </Only>
              }
            />
            <Route
              path="/join/requests"
              element={
                <Only role="engineer" some>
                  <JoinRequestsPage />
                </Only>
              }
            />
            <Route path="/journal" element={<JournalPage />} />
            <Route path="/documents" element={<DocumentsPage />} />
            <Route path="/documents/:name" element={<DocumentsPage />} />
            <Route path="/traffic" element={<TrafficPage />} />
            <Route
              path="/people"
              element={
                <Only role="owner">
                  <PeoplePage />
                </Only>
              }
            />
            <Route
              path="/people/:name"
              element={
                <Only role="owner">
                  <PersonPage />
                </Only>
              }
            />
            <Route
              path="/teams"
              element={
                <Only role="owner">
                  <TeamsPage />
                </Only>
              }
            />
            <Route
              path="/teams/:name"
              element={
                <Only role="owner">
                  <TeamPage />
                </Only>
              }
            />
            <Route
              path="/keys"
              element={
                <Only role="owner">
                  <KeysPage />
                </Only>
              }
            />
            <Route
              path="/keys/:name"
              element={
                <Only role="owner">
                  <KeyPage />
                </Only>
              }
            />
            <Route
              path="/sign-ins"
              element={
                <Only role="owner">
                  <SignInsPage />
                </Only>
              }
            />
            <Route path="/you" element={<YouPage />} />
            <Route path="/service" element={<ServicePage />} />
            <Route
              path="*"
              element={
                <Empty
                  title="There is no such page"
                  next={
                    <a href="/" className="text-press hover:underline">
                      Go to the fleet
                    </a>
                  }
                />
              }
            />
          </Routes>
        </Boundary>
      </Frame>
    </Notices>
  );
}
