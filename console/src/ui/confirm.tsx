// A button for what cannot be undone: it asks first, and says what will follow.
import { type ReactNode, useId, useRef } from "react";
import { Button } from "./parts";

/** The browser's own modal dialog: it keeps the focus, closes on Escape, and needs no style that is not ours. */
export function ConfirmButton({
  label,
  hidden = "",
  title,
  children,
  disabled = false,
  confirm,
}: {
  label: string;
  /** Words for a screen reader alone, such as which of several it is. */
  hidden?: string;
  title: string;
  /** What follows, in a sentence or two. */
  children: ReactNode;
  disabled?: boolean;
  confirm: () => void;
}) {
  const dialog = useRef<HTMLDialogElement>(null);
  const id = useId();
  const answer = () => {
    dialog.current?.close();
    confirm();
  };
  return (
    <>
      <Button quiet disabled={disabled} onClick={() => dialog.current?.showModal()}>
        {label}
        {hidden && <span className="sr-only"> {hidden}</span>}
      </Button>
      <dialog
        ref={dialog}
        role="alertdialog"
        aria-labelledby={`${id}-title`}
        aria-describedby={`${id}-words`}
        className="slab m-auto max-h-[85vh] w-[min(28rem,92vw)] text-left font-normal text-ink backdrop:bg-black/50"
      >
        <h2 id={`${id}-title`} className="font-head text-xl font-semibold">
          {title}
        </h2>
        <div id={`${id}-words`} className="my-3">
          {children}
        </div>
        <div className="flex flex-wrap justify-end gap-2">
          <Button quiet onClick={() => dialog.current?.close()}>
            Cancel
          </Button>
          <Button onClick={answer}>{label}</Button>
        </div>
      </dialog>
    </>
  );
}
