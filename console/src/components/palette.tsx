import { Command } from "cmdk";
import { useNavigate } from "react-router";
import { useFleet } from "../api/live";
import { Vessel } from "./vessel";

// Palette goes anywhere from the keyboard.
export default function Palette({ onClose }: { onClose: () => void }) {
  const { devices } = useFleet();
  const navigate = useNavigate();
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
      overlayClassName="fixed inset-0 z-40 bg-black/40"
      contentClassName="fixed top-[12vh] left-1/2 z-50 w-[min(36rem,calc(100vw-2rem))] -translate-x-1/2 border border-line bg-surface shadow-lg"
    >
      <Command.Input
        placeholder="A device, a site or a page"
        className="w-full border-b border-line bg-transparent px-4 py-3 text-base outline-none"
      />
      <Command.List className="max-h-[50vh] overflow-y-auto py-2">
        <Command.Empty className="px-4 py-3 text-muted">Nothing is called that.</Command.Empty>
        <Command.Group
          heading="Pages"
          className="[&>[cmdk-group-heading]]:px-4 [&>[cmdk-group-heading]]:text-xs [&>[cmdk-group-heading]]:text-muted"
        >
          {[
            ["Fleet", "/"],
            ["Models", "/models"],
            ["Write a model", "/models/new"],
            ["Query: one metric of many devices", "/query"],
            ["Traffic", "/traffic"],
            ["Refused messages", "/traffic?refused=yes"],
            ["Alarms", "/alarms"],
            ["Service: storage and backup", "/service"],
          ].map(([name, to]) => (
            <Command.Item key={to} onSelect={() => go(to)} className={item}>
              {name}
            </Command.Item>
          ))}
        </Command.Group>
        <Command.Group
          heading="Devices"
          className="[&>[cmdk-group-heading]]:px-4 [&>[cmdk-group-heading]]:text-xs [&>[cmdk-group-heading]]:text-muted"
        >
          {[...devices.values()].slice(0, 2000).map((d) => (
            <Command.Item
              key={d.id}
              value={`${d.id} ${d.labels.site ?? ""} ${d.model}`}
              onSelect={() => go(`/devices/${d.id}`)}
              className={item}
            >
              <Vessel device={d} width={14} badge={false} />
              <span className="font-mono">{d.id}</span>
              <span className="ml-auto text-muted">{d.labels.site}</span>
            </Command.Item>
          ))}
        </Command.Group>
      </Command.List>
    </Command.Dialog>
  );
}
