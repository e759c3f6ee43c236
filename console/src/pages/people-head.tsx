import { NavLink } from "react-router";
import { About } from "../components/about";

// PeopleHead is the head of the pages about who may what.
export function PeopleHead() {
  return (
    <>
      <div className="flex gap-3 py-3.5">
        <h1 className="text-[1.375rem] font-bold">People</h1>
        <About document="people" what="people, access and keys" />
      </div>
      <nav aria-label="People, teams and keys" className="mb-3.5 flex border-b border-line">
        {(
          [
            ["People", "/people"],
            ["Teams", "/teams"],
            ["Keys", "/keys"],
            ["Sign-ins", "/sign-ins"],
          ] as const
        ).map(([name, to]) => (
          <NavLink
            key={to}
            to={to}
            className={({ isActive }) =>
              `border-b-2 px-3 py-2 ${isActive ? "border-ink font-semibold" : "border-transparent text-muted hover:text-ink"}`
            }
          >
            {name}
          </NavLink>
        ))}
      </nav>
    </>
  );
}
