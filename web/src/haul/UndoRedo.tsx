// Undo and redo of what was changed in a haul: name, destination, steps, sets, what was left as it is.
import { Redo2, Undo2 } from "lucide-react";
import type { Haul } from "../api/client";
import { useTurnBack } from "../api/hooks";
import { SHORTCUTS, useShortcut } from "../shared/keys";

const WAYS = [
  { way: "undo", word: "Undo", done: "Undone", Icon: Undo2 },
  { way: "redo", word: "Redo", done: "Done again", Icon: Redo2 },
] as const;

export function UndoRedo({ haul, busy }: { haul: Haul; busy: boolean }) {
  const turn = useTurnBack(haul);
  const able = (way: "undo" | "redo") => !!haul[way] && !busy && !turn.isPending;
  useShortcut("undo", () => turn.mutate("undo"), able("undo"));
  useShortcut("redo", () => turn.mutate("redo"), able("redo"));
  // what was undone is what can be done again, and the other way round
  const told = WAYS.find((w) => turn.isSuccess && w.way === turn.variables);
  const what = told && haul[told.way === "undo" ? "redo" : "undo"];
  return (
    <div className="flex shrink-0">
      <span role="status" className="sr-only">
        {told && what && `${told.done}: ${what}`}
      </span>
      {WAYS.map(({ way, word, Icon }) => (
        <button
          key={way}
          type="button"
          className="btn btn-ghost btn-sm btn-square"
          disabled={!able(way)}
          onClick={() => turn.mutate(way)}
          aria-label={haul[way] ? `${word}: ${haul[way]}` : word}
          title={haul[way] ? `${word}: ${haul[way]} (${SHORTCUTS[way].shown})` : `Nothing to ${way}`}
        >
          <Icon size={16} />
        </button>
      ))}
    </div>
  );
}
