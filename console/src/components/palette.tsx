import { Command } from "cmdk";
import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { useNavigate } from "react-router";
import { api, ask, listed } from "../api/client";
import { useFleet } from "../api/live";
import { usePlaces } from "../lib/place";
import { Vessel } from "./vessel";
import { useMay } from "../lib/me";

// matches says how well something is what was typed: every word must stand in it,
// better at the beginning of one of its own.
function matches(value: string, typed: string): number {
  const text = value.toLowerCase();
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
  if (!words.every((w) => text.includes(w))) return 0;
  return words.every((w) => text.startsWith(w) || text.includes(` ${w}`) || text.includes(`-${w}`)) ? 1 : 0.5;
}

interface Props {
  typed: string; // it may begin before the palette is there
  onTyped: (typed: string) => void;
  onClose: () => void;
}

// Palette goes anywhere from the keyboard.
export default function Palette({ typed, onTyped, onClose }: Props) {
  const { devices } = useFleet();
  const navigate = useNavigate();
  const may = useMay();
  const sites = usePlaces();
  const rules = useQuery({
    queryKey: ["rules", ""],
    queryFn: () => listed(api.GET("/api/v1/rules")),
    staleTime: 60_000,
  });
  const boards = useQuery({
    queryKey: ["boards"],
    queryFn: () => listed(api.GET("/api/v1/boards")),
    staleTime: 60_000,
  });
  const documents = useQuery({
    queryKey: ["documents"],
    queryFn: () => ask(api.GET("/api/v1/documents")),
    staleTime: Infinity,
  });
  const go = (to: string) => {
    onClose();
    navigate(to);
  };
  const item = "flex cursor-pointer items-center gap-3 px-4 py-1.5 data-[selected=true]:bg-ground";
  return (
    <Command.Dialog
      open
      onOpenChange={(open) => !open && onClose()}
      label="Go to"
      filter={matches}
      overlayClassName="fixed inset-0 z-40 bg-black/40"
      contentClassName="fixed top-[12vh] left-1/2 z-50 w-[min(36rem,calc(100vw-2rem))] -translate-x-1/2 border border-line bg-surface shadow-lg"
    >
      <Command.Input
        // At once: the dialog would select what was typed before it, and the next key replace it.
        autoFocus
        value={typed}
        onValueChange={onTyped}
        placeholder="A device, a site, a rule, a document or a page"
        className="w-full border-b border-line bg-transparent px-4 py-3 text-base outline-none"
      />
      <Command.List className="max-h-[50vh] overflow-y-auto py-2">
        <Command.Empty className="px-4 py-3 text-muted">Nothing is called that.</Command.Empty>
        <Group heading="Pages">
          {[
            ["Fleet", "/"],
            ["Models", "/models"],
            ...(may("engineer") ? [["Write a model", "/models/new"]] : []),
            ["Boards", "/boards"],
            ["Board of the whole fleet", "/boards/made/fleet"],
            ["Settings: layers and rollouts", "/settings"],
            ["Query: one metric of many devices", "/query"],
            ["Traffic", "/traffic"],
            ["Refused messages", "/traffic?refused=yes"],
            ["Alarms", "/alarms"],
            ["Rules", "/rules"],
            ...(may("engineer") ? [["Write a rule", "/rules/new"]] : []),
            ...(may("engineer") ? [["Onboard a device", "/join"]] : []),
            ["Sites", "/sites"],
            ["You: password and sign-ins", "/you"],
            ...(may("owner") ? [["People", "/people"]] : []),
            ["Journal of the fleet", "/journal"],
            ["Service: storage and backup", "/service"],
          ].map(([name, to]) => (
            <Command.Item key={to} onSelect={() => go(to)} className={item}>
              {name}
            </Command.Item>
          ))}
        </Group>
        <Group heading="Boards">
          {boards.data?.items.map((x) => (
            <Command.Item
              key={x.board}
              value={`board ${x.board} ${x.title ?? ""}`}
              onSelect={() => go(`/boards/${x.board}`)}
              className={item}
            >
              {x.title || x.board} <span className="ml-auto text-muted">board</span>
            </Command.Item>
          ))}
        </Group>
        <Group heading="Documents">
          {documents.data?.map((d) => (
            <Command.Item
              key={d.name}
              value={`document ${d.title}`}
              onSelect={() => go(`/documents/${d.name}`)}
              className={item}
            >
              {d.title} <span className="ml-auto text-muted">document</span>
            </Command.Item>
          ))}
        </Group>
        <Group heading="Sites">
          {sites.data?.items.map((x) => (
            <Command.Item
              key={x.site}
              value={`site ${x.site}`}
              onSelect={() => go(`/sites/${encodeURIComponent(x.site)}`)}
              className={item}
            >
              {x.site} <span className="ml-auto text-muted">site</span>
            </Command.Item>
          ))}
        </Group>
        <Group heading="Rules">
          {rules.data?.items.map((x) => (
            <Command.Item
              key={x.rule}
              value={`rule ${x.rule} ${x.message}`}
              onSelect={() => go(`/rules/${x.rule}`)}
              className={item}
            >
              <span className="font-mono">{x.rule}</span> <span className="ml-auto text-muted">rule</span>
            </Command.Item>
          ))}
        </Group>
        <Group heading="Devices">
          {[...devices.values()].slice(0, 2000).map((d) => (
            <Command.Item
              key={d.id}
              value={`${d.name ?? ""} ${d.id} ${d.labels.site ?? ""} ${d.model}`}
              onSelect={() => go(`/devices/${d.id}`)}
              className={item}
            >
              <Vessel device={d} width={14} badge={false} />
              {d.name && <span>{d.name}</span>}
              <span className={d.name ? "font-mono text-muted" : "font-mono"}>{d.id}</span>
              <span className="ml-auto text-muted">{d.labels.site}</span>
            </Command.Item>
          ))}
        </Group>
      </Command.List>
    </Command.Dialog>
  );
}

function Group({ heading, children }: { heading: string; children: ReactNode }) {
  return (
    <Command.Group
      heading={heading}
      className="[&>[cmdk-group-heading]]:px-4 [&>[cmdk-group-heading]]:text-xs [&>[cmdk-group-heading]]:text-muted"
    >
      {children}
    </Command.Group>
  );
}
