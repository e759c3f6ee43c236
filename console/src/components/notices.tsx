import { createContext, useCallback, useContext, useMemo, useState, type ReactNode } from "react";

interface Notice {
  id: number;
  text: string;
  bad?: boolean;
  undo?: () => void;
}

type Tell = (text: string, more?: { bad?: boolean; undo?: () => void }) => void;
const Context = createContext<Tell>(() => {});

// useTell shows what came of an action, with a way back where there is one.
export const useTell = () => useContext(Context);

export function Notices({ children }: { children: ReactNode }) {
  const [notices, setNotices] = useState<Notice[]>([]);
  const drop = useCallback((id: number) => setNotices((ns) => ns.filter((n) => n.id !== id)), []);
  const tell = useCallback<Tell>(
    (text, more) => {
      const id = Date.now() + Math.random();
      setNotices((ns) => [...ns.slice(-2), { id, text, ...more }]);
      window.setTimeout(() => drop(id), more?.bad ? 12000 : 8000);
    },
    [drop],
  );
  const value = useMemo(() => tell, [tell]);
  return (
    <Context.Provider value={value}>
      {children}
      <div
        className="fixed bottom-4 left-4 z-50 flex max-w-[min(34rem,calc(100vw-2rem))] flex-col gap-2"
        role="status"
      >
        {notices.map((n) => (
          <div
            key={n.id}
            className={`flex items-center gap-4 border bg-surface px-4 py-2.5 shadow-md ${n.bad ? "border-urgent text-urgent" : "border-line"}`}
          >
            <span>{n.text}</span>
            {n.undo && (
              <button
                type="button"
                className="font-semibold text-press"
                onClick={() => {
                  n.undo?.();
                  drop(n.id);
                }}
              >
                Undo
              </button>
            )}
            <button
              type="button"
              aria-label="Dismiss"
              className="ml-auto text-muted"
              onClick={() => drop(n.id)}
            >
              ✕
            </button>
          </div>
        ))}
      </div>
    </Context.Provider>
  );
}
