import type { ReactNode } from "react";
import { Mark } from "./vessel";

// Outside is the page of somebody who is not signed in.
export function Outside({ children }: { children: ReactNode }) {
  return (
    <main className="mx-auto max-w-sm px-5 pt-[16vh]">
      <h1 className="flex items-center gap-3 text-2xl font-bold">
        <Mark /> Ullage
      </h1>
      {children}
    </main>
  );
}

// largeField is how the fields there look.
export const largeField = "mt-1 w-full rounded-[4px] border border-muted bg-surface px-3 py-2 text-base";
