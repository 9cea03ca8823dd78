// What is selected and how the view looks; ids are nodes of the source, so that every scene knows them.
import { create } from "zustand";
import type { Lens } from "../view/lenses";

export type Focus = { source: number; centre: [number, number, number]; size: number; time: number };

export type Box = { min: [number, number, number]; max: [number, number, number] };

type ViewState = {
  selected: ReadonlySet<number>;
  focus: Focus | null;
  marked: ReadonlySet<number> | null;
  lens: Lens;
  pair: boolean;
  wipe: number;
  /** A step whose result the view shows before it is on the tape, as JSON. */
  preview: string | null;
  /** A box in metres, Y up, drawn in the view; `drawing` while the next drag draws one. */
  box: Box | null;
  drawing: boolean;
  /** Where the figure of a person stands, in metres, Y up; `placing` while the next click sets it down. */
  figure: [number, number, number] | null;
  placing: boolean;
  select: (ids: Iterable<number>) => void;
  look: (focus: Omit<Focus, "time">) => void;
  mark: (ids: Iterable<number> | null) => void;
  set: (
    change: Partial<
      Pick<ViewState, "lens" | "pair" | "wipe" | "preview" | "box" | "drawing" | "figure" | "placing">
    >,
  ) => void;
  clear: () => void;
};

export const useView = create<ViewState>((set) => ({
  selected: new Set(),
  focus: null,
  marked: null,
  lens: "shaded",
  pair: false,
  wipe: 0.5,
  preview: null,
  box: null,
  drawing: false,
  figure: null,
  placing: false,
  select: (ids) => set({ selected: new Set(ids) }),
  look: (focus) => set({ focus: { ...focus, time: performance.now() } }),
  mark: (ids) => set({ marked: ids ? new Set(ids) : null }),
  set: (change) => set(change),
  clear: () => set({ selected: new Set(), marked: null }),
}));
