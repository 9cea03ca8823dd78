// Undo and redo as a pair of buttons and keys, for whatever keeps its changes: a haul, a destination.
import { Redo2, Undo2 } from "lucide-react";
import type { Way } from "../api/client";
import { SHORTCUTS, useShortcut } from "./keys";

const WAYS = [
  { way: "undo", word: "Undo", done: "Undone", Icon: Undo2 },
  { way: "redo", word: "Redo", done: "Done again", Icon: Redo2 },
] as const;

type Props = {
  /** What would be undone, and what would be done again, in words; empty where there is nothing. */
  changes: Record<Way, string>;
  /** What was asked for last, once it is done. */
  done: Way | undefined;
  busy: boolean;
  onTurn: (way: Way) => void;
};

export function UndoRedo({ changes, done, busy, onTurn }: Props) {
  const able = (way: Way) => !!changes[way] && !busy;
  useShortcut("undo", () => onTurn("undo"), able("undo"));
  useShortcut("redo", () => onTurn("redo"), able("redo"));
  // what was undone is what can be done again, and the other way round
  const told = WAYS.find((w) => w.way === done);
  const what = told && changes[told.way === "undo" ? "redo" : "undo"];
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
          onClick={() => onTurn(way)}
          aria-label={changes[way] ? `${word}: ${changes[way]}` : word}
          title={changes[way] ? `${word}: ${changes[way]} (${SHORTCUTS[way].shown})` : `Nothing to ${way}`}
        >
          <Icon size={16} />
        </button>
      ))}
    </div>
  );
}
