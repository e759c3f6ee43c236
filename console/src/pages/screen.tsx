import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useState, type FormEvent } from "react";
import { useNavigate } from "react-router";
import { api, ask, Refusal } from "../api/client";
import { largeField, Outside } from "../components/outside";
import { Button, Trouble } from "../components/parts";
import { setScreen } from "../lib/screen";
import { useTitle } from "../lib/use";

// ScreenPage lets a screen in: with the code in its address, with one that is typed
// here, or with the one that it shows, once somebody has let that in elsewhere.
export default function ScreenPage() {
  useTitle("Let this screen in");
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [given] = useState(() => decodeURIComponent(location.hash.slice(1)));
  useEffect(() => history.replaceState(null, "", location.pathname), []);
  const [trouble, setTrouble] = useState("");
  const [busy, setBusy] = useState(given !== "");
  const enter = useCallback(
    async (code: string) => {
      const { page } = await ask(api.POST("/api/v1/screen/enter", { body: { code } }));
      setScreen(true);
      await queries.resetQueries({ queryKey: ["me"] });
      navigate(page, { replace: true });
    },
    [navigate, queries],
  );
  useEffect(() => {
    if (given === "") return;
    enter(given)
      .catch((e: Error) => setTrouble(e.message))
      .finally(() => setBusy(false));
  }, [given, enter]);
  // The screen shows a code of its own until it is let in, and another one when that
  // is too old.
  const shown = useQuery({
    queryKey: ["screen"],
    enabled: !busy,
    queryFn: () => ask(api.POST("/api/v1/screen")),
    retry: false,
    staleTime: 14 * 60_000,
    refetchInterval: 14 * 60_000,
  });
  const secret = shown.data?.secret;
  useEffect(() => {
    if (!secret) return;
    const timer = window.setInterval(() => {
      enter(secret).catch((e) => {
        if (e instanceof Refusal && e.about !== "waiting" && e.status !== 0) setTrouble(e.message);
      });
    }, 4000);
    return () => window.clearInterval(timer);
  }, [secret, enter]);
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    setTrouble("");
    setBusy(true);
    enter(String(new FormData(e.currentTarget).get("code")))
      .catch((err: Error) => setTrouble(err.message))
      .finally(() => setBusy(false));
  };
  if (busy && !trouble)
    return (
      <Outside>
        <p className="pt-6 text-muted">Letting this screen in…</p>
      </Outside>
    );
  return (
    <Outside>
      <div className="pt-6">
        <p>Type this code where the screen is let in: in the console at People, Keys, or with</p>
        <p className="py-1">
          <code className="font-mono text-[0.8125rem] break-all">
            ullage key let-in KEY {shown.data?.code ?? "CODE"}
          </code>
        </p>
        <p className="py-4 text-center font-mono text-[2.5rem] font-bold" data-testid="code">
          {shown.data?.code ?? (shown.error ? "–" : "…")}
        </p>
        {shown.error && <Trouble>{shown.error.message}</Trouble>}
        <p className="text-muted">This page goes on by itself then.</p>
      </div>
      <form onSubmit={submit} className="mt-6 flex flex-col gap-4 border-t border-line pt-5">
        <label>
          Or type the code that you were given
          <input name="code" required autoComplete="off" className={`${largeField} font-mono`} />
        </label>
        {trouble && <Trouble>{trouble}</Trouble>}
        <Button primary type="submit" className="py-2">
          Show the page
        </Button>
      </form>
    </Outside>
  );
}
