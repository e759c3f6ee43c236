import { Dialog as Radix } from "radix-ui";
import { useState, type FormEvent, type ReactNode } from "react";
import { Button, Trouble } from "./parts";

interface Props {
  title: string;
  about?: ReactNode;
  children?: ReactNode;
  // act does what the dialog is for; it closes when that is done, unless the
  // answer is false.
  act: () => Promise<unknown>;
  verb: string; // what the button says
  danger?: boolean;
  ready?: boolean; // whether the button can be pressed
  wide?: boolean;
  read?: boolean; // there is nothing to do but to read
  onClose: () => void;
}

// Dialog asks for something and does it. What went wrong is shown inside, so that
// nothing that was typed is lost; the focus goes back where it was.
export function Dialog({
  title,
  about,
  children,
  act,
  verb,
  danger,
  ready = true,
  wide,
  read,
  onClose,
}: Props) {
  const [trouble, setTrouble] = useState("");
  const [busy, setBusy] = useState(false);
  const submit = async (e: FormEvent) => {
    e.preventDefault();
    setBusy(true);
    setTrouble("");
    try {
      if ((await act()) !== false) onClose();
    } catch (err) {
      setTrouble((err as Error).message);
    } finally {
      setBusy(false);
    }
  };
  return (
    <Radix.Root open onOpenChange={(open) => !open && onClose()}>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Radix.Content
          className={`fixed top-1/2 left-1/2 z-50 max-h-[90vh] -translate-1/2 overflow-y-auto border border-line bg-surface p-5 shadow-lg ${wide ? "w-[min(46rem,calc(100vw-1rem))]" : "w-[min(32rem,calc(100vw-1rem))]"}`}
          {...(about ? {} : { "aria-describedby": undefined })}
        >
          <Radix.Title className="text-lg font-bold">{title}</Radix.Title>
          {about && <Radix.Description className="pt-1 text-muted">{about}</Radix.Description>}
          <form onSubmit={submit} className="pt-3">
            {children}
            {trouble && (
              <div className="pt-3">
                <Trouble>{trouble}</Trouble>
              </div>
            )}
            <div className="flex justify-end gap-3 pt-4">
              {!read && <Button onClick={onClose}>Cancel</Button>}
              <Button
                primary={!danger}
                type="submit"
                disabled={busy || !ready}
                className={danger ? "!border-urgent !text-urgent" : ""}
              >
                {busy ? "…" : verb}
              </Button>
            </div>
          </form>
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}

// Entry is one field of a form with its label above it.
export function Entry({
  label,
  hint,
  id,
  children,
}: {
  label: string;
  hint?: ReactNode;
  id: string;
  children: ReactNode;
}) {
  return (
    <div className="pb-3">
      <label htmlFor={id} className="block pb-0.5">
        {label} {hint && <span className="text-muted">{hint}</span>}
      </label>
      {children}
    </div>
  );
}
