import { useEffect, useState } from "react";
import { Link } from "react-router";
import { Empty } from "../components/parts";
import { turnsOf } from "../lib/rotation";
import { useScreen } from "../lib/screen";
import { useNow, useParam, useTitle } from "../lib/use";
import { MadeBoard, OwnBoard } from "./board";

// BoardRotationPage shows boards one after the other on a full screen, each for its seconds;
// which ones is in the address.
export default function BoardRotationPage() {
  useTitle("Boards in turn");
  const [show] = useParam("show", "");
  const turns = turnsOf(show);
  const [at, setAt] = useState(() => ({ i: 0, since: Date.now() }));
  const [paused, setPaused] = useState(false);
  const now = useNow(1000);
  const screen = useScreen(); // nobody is at its keyboard
  const turn = turns[at.i % Math.max(1, turns.length)];
  const since = at.since;
  const left = turn ? Math.max(0, Math.ceil(turn.seconds - (now - since) / 1000)) : 0;
  const many = turns.length;
  useEffect(() => {
    if (many === 0) return;
    document.documentElement.dataset.full = "yes";
    return () => {
      delete document.documentElement.dataset.full;
    };
  }, [many]);
  useEffect(() => {
    if (paused || many < 2 || turn === undefined) return;
    const go = setTimeout(() => setAt({ i: (at.i + 1) % many, since: Date.now() }), turn.seconds * 1000);
    return () => clearTimeout(go);
  }, [at, paused, many, turn?.seconds]); // eslint-disable-line react-hooks/exhaustive-deps -- turn is made anew each time
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (e.key === " ") {
        e.preventDefault();
        setPaused((was) => !was);
      } else if (e.key === "ArrowRight") setAt((was) => ({ i: (was.i + 1) % many, since: Date.now() }));
      else if (e.key === "ArrowLeft") setAt((was) => ({ i: (was.i + many - 1) % many, since: Date.now() }));
      else if (e.key === "Escape") window.history.back();
    };
    if (many > 0 && !screen) window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [many, screen]);
  if (!turn)
    return (
      <Empty
        title="No board is in turn here"
        why="The address says which boards are shown, and for how many seconds each: /boards/made/in-turn?show=safe-air:20,made/fleet:30"
        next={
          <Link to="/boards" className="text-press underline">
            Choose them among the boards
          </Link>
        }
      />
    );
  return (
    <>
      {turn.made ? (
        <MadeBoard key={turn.board} kind={turn.made.kind} of={turn.made.of} bare />
      ) : (
        <OwnBoard key={turn.board} name={turn.board} bare />
      )}
      {many > 1 && !screen && (
        <p className="pt-2 text-muted print:hidden" role="status" aria-live="off">
          {at.i + 1} of {many}
          {paused ? ", paused" : `, the next in ${left} s`} · space pauses, the arrows go on and back, Escape
          leaves
        </p>
      )}
    </>
  );
}
