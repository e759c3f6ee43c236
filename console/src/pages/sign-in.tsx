import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api, ask, Refusal } from "../api/client";
import { largeField, Outside } from "../components/outside";
import { Button, Trouble } from "../components/parts";
import { useTitle } from "../lib/use";

// Why a sign-on by another provider failed.
const failed: Record<string, string> = {
  stale: "The sign-on took too long, or began in another window. Try it again.",
  provider: "The provider did not vouch for you, or does not answer. The log of the service says more.",
  group: "Nothing that the provider says of you gives you access here. Ask an owner of this service.",
  name: "Your name at the provider cannot be used here, or somebody else has it. Ask an owner of this service.",
};

export function SignInPage({ trouble }: { trouble?: string }) {
  useTitle("Sign in");
  const queries = useQueryClient();
  const [wrong, setWrong] = useState<string | undefined>(
    trouble ?? failed[new URLSearchParams(location.search).get("sign-on") ?? ""],
  );
  const ways = useQuery({
    queryKey: ["sign-in"],
    queryFn: () => ask(api.GET("/api/v1/sign-in")),
    retry: false,
  });
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
      {ways.data?.sign_on && (
        <p className="mt-4">
          <a
            href="/api/v1/sign-on"
            className="block rounded-[4px] border border-line bg-surface px-3.5 py-2 text-center font-semibold hover:border-muted"
          >
            Sign in with {ways.data.sign_on}
          </a>
        </p>
      )}
      <p className="mt-6 text-muted">
        The first password was printed once where the service was started, as <i>First sign-in</i>.
      </p>
    </Outside>
  );
}
