import type { Device } from "../api/client";
import { Choice } from "../components/parts";
import { useParam } from "../lib/use";
import { Contact } from "./fleet-contact";
import { Course } from "./fleet-course";
import { Upkeep } from "./fleet-upkeep";

const views = [
  { value: "contact", name: "Contact" },
  { value: "upkeep", name: "Batteries and signal" },
  { value: "versions", name: "Versions" },
];

// Activity is how devices fare over weeks and months: whether they are heard, what keeps them
// going, and what they run.
export function Activity({ devices }: { devices: readonly Device[] }) {
  const [about, setAbout] = useParam("of", "contact");
  return (
    <section aria-label="Activity" className="min-w-0">
      <div className="pb-3">
        <Choice label="What of their activity" options={views} value={about} onChange={setAbout} />
      </div>
      {about === "upkeep" ? (
        <Upkeep devices={devices} />
      ) : about === "versions" ? (
        <Course devices={devices} />
      ) : (
        <Contact devices={devices} />
      )}
    </section>
  );
}
