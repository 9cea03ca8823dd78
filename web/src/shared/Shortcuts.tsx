// The list of shortcuts, opened with “?”.
import { useEffect, useRef } from "react";

const KEYS: [string, string][] = [
  ["1 – 6", "go to a station of the trail"],
  ["/", "search in the ledger"],
  ["↑ ↓", "move through the ledger"],
  ["Shift + ↑ ↓", "extend the selection"],
  ["Enter", "bring the selected part into the view"],
  ["Esc", "clear the selection"],
  ["L", "next lens of the view"],
  ["P", "pair view on and off"],
  ["R", "run the route"],
  ["D", "paper or dusk"],
  ["?", "this list"],
];

export function typing(target: EventTarget | null) {
  return target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName);
}

export function Shortcuts() {
  const dialog = useRef<HTMLDialogElement>(null);
  useEffect(() => {
    const open = () => dialog.current?.showModal();
    const onKey = (e: KeyboardEvent) => {
      if (e.key === "?" && !typing(e.target)) open();
    };
    window.addEventListener("keydown", onKey);
    window.addEventListener("caravan-shortcuts", open);
    return () => {
      window.removeEventListener("keydown", onKey);
      window.removeEventListener("caravan-shortcuts", open);
    };
  }, []);
  return (
    <dialog ref={dialog} className="modal" aria-label="Keyboard shortcuts">
      <div className="modal-box w-96">
        <h2 className="mb-3 text-base font-semibold">Keyboard</h2>
        <dl className="grid grid-cols-[7rem_1fr] gap-y-1.5">
          {KEYS.map(([key, text]) => (
            <div key={key} className="contents">
              <dt>
                <kbd className="kbd kbd-sm">{key}</kbd>
              </dt>
              <dd>{text}</dd>
            </div>
          ))}
        </dl>
        <form method="dialog" className="mt-4 text-right">
          <button type="submit" className="btn btn-sm">
            Close
          </button>
        </form>
      </div>
    </dialog>
  );
}
