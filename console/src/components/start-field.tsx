import { Entry } from "./dialog";
import { fieldLook } from "./field";

interface Start {
  page: string;
  only?: boolean;
}

// StartField is the page of the console with which somebody begins.
export function StartField({ value, onChange }: { value?: Start; onChange: (s?: Start) => void }) {
  return (
    <>
      <Entry label="Begins with the page" hint="such as /alarms; the fleet where it is empty" id="start-page">
        <input
          id="start-page"
          value={value?.page ?? ""}
          maxLength={500}
          onChange={(e) => onChange(e.target.value ? { ...value, page: e.target.value.trim() } : undefined)}
          className={`${fieldLook} font-mono`}
        />
      </Entry>
      {value && (
        <label className="flex gap-1.5 pb-3">
          <input
            type="checkbox"
            checked={Boolean(value.only)}
            onChange={(e) => onChange({ page: value.page, only: e.target.checked || undefined })}
          />
          nothing but this page, over the full screen
        </label>
      )}
    </>
  );
}

// Begins tells it.
export function Begins({ start }: { start?: Start }) {
  if (!start) return null;
  return (
    <p className="pt-2">
      Begins with <code className="font-mono text-[0.8125rem]">{start.page}</code>
      {start.only && " and has nothing but that page"}.
    </p>
  );
}

// StartPath is the page that screens show.
export function StartPath({
  id,
  value,
  onChange,
}: {
  id: string;
  value: string;
  onChange: (page: string) => void;
}) {
  return (
    <Entry
      label="Page"
      hint="/ (the fleet), /alarms, /devices/ID, /boards/NAME, boards in turn or /query, with its parameters"
      id={id}
    >
      <input
        id={id}
        value={value}
        maxLength={500}
        placeholder="/query?metric=co2&span=24h&group_by=site"
        onChange={(e) => onChange(e.target.value.trim())}
        className={`${fieldLook} font-mono`}
      />
    </Entry>
  );
}
