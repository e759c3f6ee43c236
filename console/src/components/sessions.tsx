import { useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import { absolute } from "../lib/format";
import { useTell } from "./notices";
import { Button, Trouble } from "./parts";

// Sessions lists the sign-ins of somebody that hold, each with a button that ends it.
export function Sessions({ person }: { person?: string }) {
  const queries = useQueryClient();
  const tell = useTell();
  const list = useQuery({
    queryKey: ["sessions", person ?? ""],
    queryFn: () => ask(api.GET("/api/v1/sessions", { params: { query: { person } } })),
  });
  if (list.error) return <Trouble>{list.error.message}</Trouble>;
  if (!list.data) return <p className="text-muted">Loading…</p>;
  if (list.data.length === 0)
    return (
      <p className="text-muted">
        {person?.startsWith("key ") ? "No screen is let in." : "Not signed in anywhere."}
      </p>
    );
  const end = async (id: string) => {
    try {
      await ask(api.DELETE("/api/v1/sessions/{id}", { params: { path: { id } } }));
      tell("The sign-in has ended");
    } catch (err) {
      tell((err as Error).message);
    }
    await queries.invalidateQueries({ queryKey: ["sessions"] });
  };
  return (
    <ul className="max-w-2xl border-t border-line">
      {list.data.map((s) => (
        <li key={s.id} className="flex flex-wrap items-center gap-x-6 gap-y-1 border-b border-line py-2">
          <span className="w-32 font-semibold">
            {person === "*" && (
              <>
                {s.person}
                <br />
              </>
            )}
            <span className={person === "*" ? "font-normal text-muted" : ""}>{s.with}</span>
          </span>
          <span className="text-muted">
            since {absolute(s.signed_in_at)}, until {absolute(s.expires_at)}
            {s.from && `, from ${s.from}`}
          </span>
          <span className="ml-auto">
            {s.this ? (
              <span className="text-muted">this one</span>
            ) : (
              <Button onClick={() => end(s.id)} aria-label={`End the sign-in with the ${s.with}`}>
                End
              </Button>
            )}
          </span>
        </li>
      ))}
    </ul>
  );
}
