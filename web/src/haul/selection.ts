// What is selected and how the view looks. Parts are selected by their identities, which hold when the source changes;
// beside each stands its number in the newest source, by which every scene of it and the view know it.
import { create } from "zustand";
import type { Batch } from "../view/hover";
import type { Lens } from "../view/lenses";

export type Focus = { source: number; centre: [number, number, number]; size: number; time: number };

export type Box = { min: [number, number, number]; max: [number, number, number] };

type ViewState = {
  selected: ReadonlyMap<string, number>;
  focus: Focus | null;
  marked: ReadonlySet<number> | null;
  lens: Lens;
  pair: boolean;
  wipe: number;
  /** A step whose result the view shows before it is on the tape, as JSON. */
  preview: string | null;
  /** A step of the last run, counted from 1, that the pair shows before and after. */
  stage: number | null;
  /** Level of detail at which the view shows the result, 0 for the whole. */
  level: number;
  /** A box in metres, Y up, drawn in the view; `drawing` while the next drag draws one. */
  box: Box | null;
  drawing: boolean;
  /** Where the figure of a person stands, in metres, Y up; `placing` while the next click sets it down. */
  figure: [number, number, number] | null;
  placing: boolean;
  /** What the next click in the view is for: it gets the place, in metres, Y up; null when it was given up. */
  picking: ((place: [number, number, number] | null) => void) | null;
  /** Whether that click is drawn to a corner near it. */
  corners: boolean;
  /** A job that baked the light of the scene that is shown: the view is that with it. */
  baked: { job: string; scene: string } | null;
  /** What the pointer is on in the lens of batches: all that is drawn with it. */
  batch: Batch | null;
  /** A part whose triangle under the pointer is asked for, by its number; and that triangle. */
  watched: number | null;
  spot: { source: number; triangle: number } | null;
  /** Lines of the places of a fault: x, y, z of both ends in metres, Y up. */
  places: readonly number[][] | null;
  /** known: numbers of those among the ids that were not selected before. */
  select: (ids: Iterable<string>, known: Iterable<readonly [string, number]>) => void;
  look: (focus: Omit<Focus, "time">) => void;
  mark: (ids: Iterable<number> | null) => void;
  set: (
    change: Partial<
      Pick<
        ViewState,
        | "lens"
        | "pair"
        | "wipe"
        | "preview"
        | "box"
        | "drawing"
        | "figure"
        | "placing"
        | "places"
        | "stage"
        | "level"
        | "picking"
        | "corners"
        | "baked"
        | "batch"
        | "watched"
        | "spot"
      >
    >,
  ) => void;
  clear: () => void;
};

export const useView = create<ViewState>((set) => ({
  selected: new Map(),
  focus: null,
  marked: null,
  lens: "shaded",
  pair: false,
  wipe: 0.5,
  preview: null,
  stage: null,
  level: 0,
  box: null,
  drawing: false,
  figure: null,
  placing: false,
  picking: null,
  corners: true,
  baked: null,
  batch: null,
  watched: null,
  spot: null,
  places: null,
  select: (ids, known) =>
    set((old) => {
      const numbers = new Map([...old.selected, ...known]);
      return { selected: new Map([...ids].map((id) => [id, numbers.get(id) ?? -1])) };
    }),
  look: (focus) => set({ focus: { ...focus, time: performance.now() } }),
  mark: (ids) => set({ marked: ids ? new Set(ids) : null }),
  set: (change) => set(change),
  clear: () => set({ selected: new Map(), marked: null }),
}));

/** What the view looks at to have a box in it. */
export const around = ({ min, max }: { min: number[]; max: number[] }): Omit<Focus, "time"> => ({
  source: -1,
  centre: max.map((v, i) => (v + (min[i] ?? 0)) / 2) as [number, number, number],
  size: Math.hypot(...max.map((v, i) => v - (min[i] ?? 0))) / 2,
});

/** What a part is called; one that a step made has no identity and is known in this scene only. */
export const nameOf = (part: { identity: string; node: number }) => part.identity || `#${part.node}`;

/** The selected parts that have an identity, for sets and steps. */
export const identitiesOf = (selected: ReadonlyMap<string, number>) =>
  [...selected.keys()].filter((name) => !name.startsWith("#"));
