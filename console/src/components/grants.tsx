import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, type Grant } from "../api/client";
import { does, roles, type Role } from "../lib/me";
import { plural } from "../lib/format";
import { fieldLook } from "./field";
import { Button } from "./parts";
import { Where } from "./where";

// someOf is what an access begins with.
const someOf = 'label.site == ""';

// GrantField is one grant: a role, for all devices or for some, with the devices that
// it reaches now.
export function GrantField({
  id,
  value,
  onChange,
  onRight,
  most = "owner",
}: {
  id: string;
  value: Grant;
  onChange: (g: Grant) => void;
  onRight?: (right: boolean) => void;
  most?: Role; // the greatest role to choose
}) {
  const [some, setSome] = useState(Boolean(value.access));
  const offered = roles.slice(0, roles.indexOf(most) + 1).filter((r) => !some || r !== "owner");
  return (
    <div>
      <div className="flex flex-wrap items-center gap-x-3 gap-y-2">
        <select
          aria-label="Role"
          id={id}
          value={value.role}
          onChange={(e) => onChange({ ...value, role: e.target.value as Role })}
          className={`${fieldLook} !w-36`}
        >
          {offered.map((r) => (
            <option key={r}>{r}</option>
          ))}
        </select>
        {[false, true].map((s) => (
          <label key={String(s)} className="flex gap-1.5">
            <input
              type="radio"
              name={`${id}-for`}
              checked={some === s}
              disabled={s && value.role === "owner"}
              onChange={() => {
                setSome(s);
                onChange({ role: value.role, access: s ? someOf : undefined });
                if (!s) onRight?.(true);
              }}
            />
            {s ? "for some devices" : "for all devices"}
          </label>
        ))}
      </div>
      <p className="pt-1 text-muted">{does[value.role]}</p>
      {some && (
        <div className="pt-2">
          <Where
            purpose="access"
            value={value.access ?? ""}
            onChange={(access) => onChange({ role: value.role, access: access || someOf })}
            onRight={onRight}
            label="For which devices"
            placeholder='label.site == "Fennimore"'
          />
          <Reach access={value.access ?? ""} />
        </div>
      )}
    </div>
  );
}

// Reach lists the devices that an access reaches now.
export function Reach({ access }: { access: string }) {
  const [all, setAll] = useState(false);
  const reach = useQuery({
    queryKey: ["people", "reach", access],
    enabled: access !== "",
    placeholderData: (old) => old,
    retry: false,
    queryFn: () => ask(api.GET("/api/v1/access/preview", { params: { query: { access } } })),
  });
  const r = reach.data;
  if (!r || reach.error) return null;
  const shown = all ? r.devices : r.devices.slice(0, 6);
  const odd = r.count === 0 || r.count === r.of;
  return (
    <div className="pt-1.5" aria-live="polite">
      <p className={odd ? "font-semibold text-watch" : ""}>
        {odd && "⚠ "}
        {r.says}
      </p>
      {shown.length > 0 && (
        <p className="font-mono text-[0.8125rem] text-muted">
          {shown.map((id) => (
            <span key={id} className="mr-4 inline-block">
              {id}
            </span>
          ))}
          {r.count > shown.length && !all && (
            <>
              {"  "}
              <button
                type="button"
                className="font-sans text-press hover:underline"
                onClick={() => setAll(true)}
              >
                and {plural(r.count - shown.length, "other")}
              </button>
            </>
          )}
        </p>
      )}
    </div>
  );
}

// GrantsField is the grants of a person or a team.
export function GrantsField({
  value,
  onChange,
  onRight,
}: {
  value: Grant[];
  onChange: (gs: Grant[]) => void;
  onRight?: (right: boolean) => void;
}) {
  const [, setWrong] = useState<Record<number, boolean>>({}); // by key
  const [keys, setKeys] = useState(() => value.map((_, i) => i));
  const right = (key: number, ok: boolean) =>
    setWrong((was) => {
      if (Boolean(was[key]) === !ok) return was;
      const next = { ...was, [key]: !ok };
      onRight?.(!Object.values(next).some(Boolean));
      return next;
    });
  return (
    <fieldset className="pb-3">
      <legend className="pb-1">Grants</legend>
      {value.length === 0 && <p className="pb-2 text-muted">None of their own.</p>}
      {value.map((g, i) => (
        <div key={keys[i]} className="mb-3 flex items-start gap-3 border-l-2 border-line pl-3">
          <div className="min-w-0 flex-1">
            <GrantField
              id={`grant-${keys[i]}`}
              value={g}
              onChange={(next) => onChange(value.map((x, k) => (k === i ? next : x)))}
              onRight={(ok) => right(keys[i], ok)}
            />
          </div>
          <Button
            aria-label={`Take the grant ${g.role} away`}
            onClick={() => {
              right(keys[i], true);
              setKeys(keys.filter((_, k) => k !== i));
              onChange(value.filter((_, k) => k !== i));
            }}
          >
            Remove
          </Button>
        </div>
      ))}
      <Button
        onClick={() => {
          setKeys([...keys, Math.max(-1, ...keys) + 1]);
          onChange([...value, { role: "viewer" }]);
        }}
      >
        Add a grant
      </Button>
    </fieldset>
  );
}

// Grants lists grants: with what they reach now for owners, who may ask, and else with
// what each role does.
export function Grants({ grants, reach }: { grants: (Grant & { team?: string })[]; reach?: boolean }) {
  if (grants.length === 0) return <p className="text-muted">Nothing: there are no grants.</p>;
  return (
    <ul className="max-w-2xl border-t border-line">
      {grants.map((g, i) => (
        <li key={i} className="border-b border-line py-2">
          <b className="font-semibold">{g.role}</b>{" "}
          {g.access ? (
            <>
              for <code className="font-mono text-[0.8125rem]">{g.access}</code>
            </>
          ) : (
            "for all devices"
          )}
          {g.team && (
            <span className="text-muted">
              , from the team{" "}
              {reach ? (
                <Link to={`/teams/${g.team}`} className="text-press hover:underline">
                  {g.team}
                </Link>
              ) : (
                g.team
              )}
            </span>
          )}
          {!reach && (
            <span className="block text-muted">
              {does[g.role]}
              {g.role !== "viewer" &&
                `; may do what ${roles.slice(0, roles.indexOf(g.role)).join(", ")} may, too`}
            </span>
          )}
          {reach && g.access && <Reach access={g.access} />}
        </li>
      ))}
    </ul>
  );
}
