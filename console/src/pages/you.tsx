import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api, ask } from "../api/client";
import { Entry } from "../components/dialog";
import { fieldLook } from "../components/field";
import { useTell } from "../components/notices";
import { Button, Trouble } from "../components/parts";
import { Grants } from "../components/grants";
import { Prefer } from "../components/prefer";
import { who } from "../components/may";
import { SecondFactor } from "../components/second-factor";
import { Sessions } from "../components/sessions";
import { meQuery } from "../lib/me";
import { useTitle } from "../lib/use";

// YouPage is what somebody says about themselves: password and sign-ins.
export default function YouPage() {
  useTitle("You");
  const { data: me } = useQuery(meQuery);
  const queries = useQueryClient();
  const tell = useTell();
  const [trouble, setTrouble] = useState("");
  const submit = async (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = e.currentTarget;
    const text = (name: string) => String(new FormData(form).get(name));
    setTrouble("");
    if (text("new") !== text("again")) return setTrouble("The new password is not the same both times.");
    try {
      await ask(api.POST("/api/v1/me/password", { body: { old: text("old"), new: text("new") } }));
      form.reset();
      tell("Your password is changed; other sign-ins have ended");
      await queries.invalidateQueries({ queryKey: ["sessions"] });
    } catch (err) {
      setTrouble((err as Error).message);
    }
  };
  if (!me) return null;
  return (
    <>
      <h1 className="py-3.5 text-[1.375rem] font-bold">{me.person}</h1>
      <Grants grants={me.grants} />
      <p className="pt-2 pb-6 text-muted">{!me.everywhere.owner && `${who(me.owners)} can give you more.`}</p>
      <div className="grid gap-10 lg:grid-cols-[24rem_minmax(0,1fr)]">
        <form onSubmit={submit}>
          <h2 className="pb-2 font-semibold">Another password</h2>
          {(
            [
              ["old", "Password until now", "current-password"],
              ["new", "New password", "new-password"],
              ["again", "The same again", "new-password"],
            ] as const
          ).map(([name, label, complete]) => (
            <Entry
              key={name}
              label={label}
              hint={name === "new" ? "at least 10 characters" : undefined}
              id={`you-${name}`}
            >
              <input
                id={`you-${name}`}
                name={name}
                type="password"
                autoComplete={complete}
                required
                className={fieldLook}
              />
            </Entry>
          ))}
          {trouble && (
            <div className="pb-3">
              <Trouble>{trouble}</Trouble>
            </div>
          )}
          <Button primary type="submit">
            Change the password
          </Button>
        </form>
        <section>
          <Prefer />
          <SecondFactor on={me.second_factor} />
          <h2 className="pb-2 font-semibold">Your sign-ins</h2>
          <Sessions />
        </section>
      </div>
    </>
  );
}
