// The list of shortcuts, opened with “?” or from the top bar; there single keys are switched off as well.
import { useCallback, useEffect, useRef } from "react";
import { SHORTCUTS, useKeys, useShortcut } from "./keys";

/** What the ledger and the page do with keys that are no single characters. */
const OTHERS: [string, string][] = [
  ["↑ ↓", "move through the ledger"],
  ["Shift + ↑ ↓", "extend the selection"],
  ["Enter", "bring the selected part into the view"],
  ["Esc", "clear the selection"],
];
const KEYS: [string, string][] = [
  ...Object.values(SHORTCUTS).map((k): [string, string] => [k.shown, k.text]),
  ...OTHERS,
];

export function typing(target: EventTarget | null) {
  return target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName);
}

export function Shortcuts() {
  const dialog = useRef<HTMLDialogElement>(null);
  const keys = useKeys();
  const open = useCallback(() => dialog.current?.showModal(), []);
  useShortcut("list", open);
  useEffect(() => {
    window.addEventListener("caravan-shortcuts", open);
    return () => window.removeEventListener("caravan-shortcuts", open);
  }, [open]);
  return (
    <dialog ref={dialog} className="modal" aria-label="Keyboard shortcuts">
      <div className="modal-box w-[27rem]">
        <h2 className="mb-3 text-base font-semibold">Keyboard</h2>
        <dl className="grid grid-cols-[9.5rem_1fr] gap-y-1.5">
          {KEYS.map(([key, text]) => (
            <div key={key} className="contents">
              <dt>
                <kbd className="kbd kbd-sm whitespace-nowrap">{key}</kbd>
              </dt>
              <dd>{text}</dd>
            </div>
          ))}
        </dl>
        <label className="mt-4 flex items-center gap-2">
          <input
            type="checkbox"
            className="toggle toggle-sm"
            checked={keys.on}
            onChange={(e) => keys.set(e.target.checked)}
          />
          Use single keys
        </label>
        <form method="dialog" className="mt-4 text-right">
          <button type="submit" className="btn btn-sm">
            Close
          </button>
        </form>
      </div>
    </dialog>
  );
}
