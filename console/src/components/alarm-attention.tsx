import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import type { Alarm } from "../api/client";
import { calling } from "../lib/alarms";
import { ago, plural } from "../lib/format";

const soundKey = "ullage-alarm-sound";

// Sound lets new alarms be heard, if somebody has switched it on here.
export function Sound() {
  const [on, setOn] = useState(() => localStorage.getItem(soundKey) === "on");
  return (
    <label className="flex items-center gap-1.5 text-muted">
      <input
        type="checkbox"
        checked={on}
        onChange={(e) => {
          setOn(e.target.checked);
          localStorage.setItem(soundKey, e.target.checked ? "on" : "off");
          if (e.target.checked) beep();
        }}
      />
      sound
    </label>
  );
}

function beep() {
  const audio = new AudioContext();
  const tone = audio.createOscillator();
  const loud = audio.createGain();
  tone.frequency.value = 660;
  loud.gain.setValueAtTime(0.15, audio.currentTime);
  loud.gain.exponentialRampToValueAtTime(0.001, audio.currentTime + 0.5);
  tone.connect(loud).connect(audio.destination);
  tone.start();
  tone.stop(audio.currentTime + 0.5);
  tone.onended = () => void audio.close();
}

// useSound is heard when an alarm is new that calls.
export function useSound(open: Alarm[]) {
  const known = useRef<Set<string>>(undefined);
  useEffect(() => {
    const ids = new Set(
      calling(open)
        .filter((a) => a.state === "unacknowledged")
        .map((a) => a.id),
    );
    const fresh = known.current && [...ids].some((id) => !known.current?.has(id));
    if (fresh && localStorage.getItem(soundKey) === "on") beep();
    if (open.length || known.current) known.current = ids;
  }, [open]);
}

const hereKey = "ullage-alarms-seen";

// Away says what has changed since somebody looked at the alarms last.
export function Away({ alarms, now }: { alarms: Alarm[]; now: number }) {
  const [since, setSince] = useState(() => Number(localStorage.getItem(hereKey) ?? 0));
  useEffect(() => {
    const here = () => document.hidden || localStorage.setItem(hereKey, String(Date.now()));
    const timer = window.setInterval(here, 15_000);
    const back = () => {
      const last = Number(localStorage.getItem(hereKey) ?? 0);
      if (!document.hidden && Date.now() - last > 120_000) setSince(last);
    };
    document.addEventListener("visibilitychange", back);
    return () => {
      here();
      window.clearInterval(timer);
      document.removeEventListener("visibilitychange", back);
    };
  }, []);
  if (!since || now - since < 120_000) return null;
  const after = (at?: string) => at !== undefined && Date.parse(at) > since;
  const raised = alarms.filter((a) => after(a.raised_at)).length;
  const back = alarms.filter((a) => after(a.returned_at)).length;
  const by = alarms.filter((a) => after(a.acknowledged_at)).length;
  return (
    <p className="mb-3 flex flex-wrap items-baseline gap-x-3 border-l-2 border-press bg-surface px-3 py-1.5">
      <span>
        Since you were here {ago(new Date(since).toISOString(), now)}:{" "}
        {raised + back + by === 0
          ? "nothing has changed among the open ones."
          : [
              raised && `${plural(raised, "alarm")} raised`,
              back && `${back} returned`,
              by && `${by} acknowledged`,
            ]
              .filter(Boolean)
              .join(", ") + "."}
      </span>
      <Link
        to={`/journal?kind=alarm%20raised&span=${new Date(since).toISOString().slice(0, 19)}Z..${new Date(now).toISOString().slice(0, 19)}Z`}
        className="text-press"
      >
        All that was raised
      </Link>
      <button type="button" className="text-press" onClick={() => setSince(0)}>
        Seen
      </button>
    </p>
  );
}
