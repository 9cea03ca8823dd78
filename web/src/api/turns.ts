// Changes of a haul, one after the other: the next is made over what the one before has left, and fails with it.
import type { Haul } from "./client";

const last = new Map<string, Promise<Haul>>();

/** Makes a change once those of the same haul that are under way have been answered; it goes by their version. */
export function inTurn(haul: Haul, change: (over: Haul) => Promise<Haul>): Promise<Haul> {
  const before = last.get(haul.id);
  // what is changed now is what the page shows, and that has the change before in it already
  const mine = before ? before.then(change) : change(haul);
  last.set(haul.id, mine);
  const done = () => {
    if (last.get(haul.id) === mine) last.delete(haul.id);
  };
  mine.then(done, done);
  return mine;
}

/** Whether a change of the haul has not been answered yet. */
export const isChanging = (haul: string) => last.has(haul);
