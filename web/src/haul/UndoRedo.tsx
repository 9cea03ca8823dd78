// Undo and redo of what was changed in a haul: name, destination, steps, sets, what was left as it is.
import { Redo2, Undo2 } from "lucide-react";
import type { Haul } from "../api/client";
import { useTurnBack } from "../api/hooks";
import { useShortcut } from "../shared/keys";

export function UndoRedo({ haul, busy }: { haul: Haul; busy: boolean }) {
  const turn = useTurnBack(haul);
  const able = {
    undo: !!haul.undo && !busy && !turn.isPending,
    redo: !!haul.redo && !busy && !turn.isPending,
  };
  useShortcut("undo", () => turn.mutate("undo"), able.undo);
  useShortcut("redo", () => turn.mutate("redo"), able.redo);
  const said = turn.isSuccess ? (turn.variables === "undo" ? haul.redo : haul.undo) : "";
  return (
    <div className="flex shrink-0">
      <span role="status" className="sr-only">
        {said && `${turn.variables === "undo" ? "Undone" : "Done again"}: ${said}`}
      </span>
      <button
        type="button"
        className="btn btn-ghost btn-sm btn-square"
        disabled={!able.undo}
        onClick={() => turn.mutate("undo")}
        aria-label={haul.undo ? `Undo: ${haul.undo}` : "Undo"}
        title={haul.undo ? `Undo: ${haul.undo} (Ctrl + Z)` : "Nothing to undo"}
      >
        <Undo2 size={16} />
      </button>
      <button
        type="button"
        className="btn btn-ghost btn-sm btn-square"
        disabled={!able.redo}
        onClick={() => turn.mutate("redo")}
        aria-label={haul.redo ? `Redo: ${haul.redo}` : "Redo"}
        title={haul.redo ? `Redo: ${haul.redo} (Ctrl + Shift + Z)` : "Nothing to redo"}
      >
        <Redo2 size={16} />
      </button>
    </div>
  );
}
