import { useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api, ask, Refusal } from "../api/client";
import { largeField, Outside } from "../components/outside";
import { Button, Trouble } from "../components/parts";
import { useTitle } from "../lib/use";

export function SignInPage({ trouble }: { trouble?: string }) {
  useTitle("Sign in");
  const queries = useQueryClient();
  const [wrong, setWrong] = useState(trouble);
  const [busy, setBusy] = useState(false);
  // Whoever has a second factor is asked for a code once the password was right.
  const [coded, setCoded] = useState(false);
  const submit = async (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = new FormData(e.currentTarget);
    setBusy(true);
    try {
      await ask(
        api.POST("/api/v1/sign-in", {
          body: {
            person: String(form.get("person")),
            password: String(form.get("password")),
            code: String(form.get("code") ?? "") || undefined,
          },
        }),
      );
      await queries.resetQueries({ queryKey: ["me"] });
    } catch (err) {
      const asked = err instanceof Refusal && err.about === "code";
      setWrong(asked && !coded ? undefined : (err as Error).message);
      if (asked) setCoded(true);
    } finally {
      setBusy(false);
    }
  };
  return (
    <Outside>
      <form onSubmit={submit} className="mt-6 flex flex-col gap-4">
        <label>
          Name
          <input
            name="person"
            autoComplete="username"
            required
            autoFocus
            className={largeField}
            defaultValue="engineer"
          />
        </label>
        <label>
          Password
          <input
            name="password"
            type="password"
            autoComplete="current-password"
            required
            className={largeField}
          />
        </label>
        {coded && (
          <label>
            Code <span className="text-muted">of the app on your phone, or a recovery code</span>
            <input
              name="code"
              autoComplete="one-time-code"
              inputMode="numeric"
              required
              autoFocus
              className={largeField}
            />
          </label>
        )}
        {wrong && <Trouble>{wrong}</Trouble>}
        <Button primary type="submit" disabled={busy} className="py-2">
          {busy ? "Signing in…" : "Sign in"}
        </Button>
      </form>
      <p className="mt-6 text-muted">
        The first password was printed once where the service was started, as <i>First sign-in</i>.
      </p>
    </Outside>
  );
}
