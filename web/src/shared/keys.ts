// All shortcuts in one list. Single keys can get in the way of speech input, so they can be switched off.
import { useHotkeys } from "react-hotkeys-hook";
import { create } from "zustand";
import { persist } from "zustand/middleware";

type Shortcut = { keys: string; shown: string; text: string };

export const SHORTCUTS = {
  station: { keys: "1,2,3,4,5,6,7,8,9", shown: "1 – 6", text: "go to a station of the trail" },
  search: { keys: "/", shown: "/", text: "search in the ledger" },
  lens: { keys: "l", shown: "L", text: "next lens of the view" },
  pair: { keys: "p", shown: "P", text: "pair view on and off" },
  undo: { keys: "mod+z", shown: "Ctrl + Z", text: "undo the last change" },
  redo: { keys: "mod+shift+z,mod+y", shown: "Ctrl + Shift + Z", text: "redo" },
  run: { keys: "r", shown: "R", text: "run the route" },
  theme: { keys: "d", shown: "D", text: "paper or dusk" },
  list: { keys: "?", shown: "?", text: "this list" },
} as const satisfies Record<string, Shortcut>;

/** Whether single keys do anything; kept in the browser. */
export const useKeys = create<{ on: boolean; set: (on: boolean) => void }>()(
  persist((set) => ({ on: true, set: (on) => set({ on }) }), { name: "caravan-keys" }),
);

/** Does something when the key of a shortcut is pressed outside of fields and dialogs. */
export function useShortcut(
  name: keyof typeof SHORTCUTS,
  action: (key: string) => void,
  enabled = true,
): void {
  const on = useKeys((s) => s.on);
  const single = !SHORTCUTS[name].keys.startsWith("mod");
  useHotkeys(
    SHORTCUTS[name].keys,
    (event) => {
      const modified = event.ctrlKey || event.metaKey || event.altKey;
      if ((single && modified) || document.querySelector("dialog[open]")) return;
      event.preventDefault();
      action(event.key);
    },
    { enabled: (on || !single) && enabled, useKey: true },
    [action],
  );
}
