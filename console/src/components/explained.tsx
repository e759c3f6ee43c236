import { Popover } from "radix-ui";
import type { ReactNode } from "react";

// Explained is something that, when it is pressed, says more of itself beside it. What it says is
// made, and asked for, when that is opened.
export function Explained({
  label,
  title,
  about,
  look,
  says,
  children,
}: {
  label?: string; // for who does not see what is pressed
  title?: string;
  about?: string; // the name of what is said
  look: string;
  says: ReactNode;
  children: ReactNode;
}) {
  return (
    <Popover.Root>
      <Popover.Trigger className={`text-left ${look}`} aria-label={label} title={title}>
        {children}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="start"
          sideOffset={4}
          collisionPadding={12}
          aria-label={about}
          className="z-40 max-h-[60vh] w-[min(34rem,calc(100vw-1rem))] overflow-auto border border-line bg-surface p-4 shadow-lg"
        >
          {says}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
