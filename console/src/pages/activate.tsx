import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState, type FormEvent } from "react";
import { useNavigate } from "react-router";
import { api, ask } from "../api/client";
import { largeField, Outside } from "../components/outside";
import { Button, Trouble } from "../components/parts";
import { useTitle } from "../lib/use";

// ActivatePage is where somebody who was invited chooses a password. What the link
// holds stands behind its #, so that no server on the way has read it; it is taken
// out of the address at once.
export default function ActivatePage() {
  useTitle("Choose a password");
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [secret] = useState(() => location.hash.slice(1));
  useEffect(() => history.replaceState(null, "", location.pathname), []);
  const [trouble, setTrouble] = useState("");
  const [busy, setBusy] = useState(false);
  const whom = useQuery({
    queryKey: ["invitation", secret],
    queryFn: () => ask(api.POST("/api/v1/invitation", { body: { secret } })),
    retry: false,
    staleTime: Infinity,
  });
  const submit = async (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = new FormData(e.currentTarget);
    const password = String(form.get("password"));
    setTrouble("");
    if (password !== String(form.get("again"))) return setTrouble("The password is not the same both times.");
    setBusy(true);
    try {
      const { person } = await ask(api.POST("/api/v1/activate", { body: { secret, password } }));
      await ask(api.POST("/api/v1/sign-in", { body: { person, password } }));
      await queries.resetQueries({ queryKey: ["me"] });
      navigate("/", { replace: true });
    } catch (err) {
      setTrouble((err as Error).message);
    } finally {
      setBusy(false);
    }
  };
  return (
    <Outside>
      {whom.isPending ? (
        <p className="pt-6 text-muted">Looking at the invitation…</p>
      ) : whom.error ? (
        <div className="pt-6">
          <Trouble>{whom.error.message}</Trouble>
          <p className="pt-4">
            <a href="/" className="text-press hover:underline">
              Go to the sign-in
            </a>
          </p>
        </div>
      ) : (
        <form onSubmit={submit} className="mt-6 flex flex-col gap-4">
          <p>
            You are invited as <b>{whom.data.person}</b>. Choose a password to sign in with.
          </p>
          <input type="hidden" autoComplete="username" value={whom.data.person} readOnly />
          <label>
            Password <span className="text-muted">at least 10 characters</span>
            <input
              name="password"
              type="password"
              autoComplete="new-password"
              required
              autoFocus
              className={largeField}
            />
          </label>
          <label>
            The same again
            <input name="again" type="password" autoComplete="new-password" required className={largeField} />
          </label>
          {trouble && <Trouble>{trouble}</Trouble>}
          <Button primary type="submit" disabled={busy} className="py-2">
            {busy ? "Signing in…" : "Sign in"}
          </Button>
        </form>
      )}
    </Outside>
  );
}
