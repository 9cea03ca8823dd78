// What the ledger shows: which rows, narrowed to what, in which order. Figures anywhere on the page set it.
import { create } from "zustand";
import type { Sorting } from "./Ledger";

export const ROWS = ["parts", "tree", "layers", "meshes", "materials", "findings"] as const;
export type Rows = (typeof ROWS)[number];
/** What narrows the parts: one mesh, material, layer, branch of the tree, or finding. */
export type Filter = {
  by: "mesh" | "material" | "layer" | "under" | "finding";
  value: string;
  text: string;
};

const FIRST: Record<Rows | "arrival", Sorting> = {
  parts: { by: "node", down: false },
  tree: { by: "triangles", down: true },
  layers: { by: "triangles", down: true },
  meshes: { by: "trianglesDrawn", down: true },
  materials: { by: "triangles", down: true },
  findings: { by: "rank", down: false },
  arrival: { by: "rank", down: false },
};

type Shown = {
  rows: Rows;
  filter: Filter | null;
  sorting: Record<Rows | "arrival", Sorting>;
  show: (change: { rows?: Rows; filter?: Filter | null; sort?: Sorting }) => void;
  sort: (rows: Rows | "arrival", sorting: Sorting) => void;
  reset: () => void;
};

export const useShown = create<Shown>((set) => ({
  rows: "parts",
  filter: null,
  sorting: FIRST,
  show: ({ rows, filter, sort }) =>
    set((old) => ({
      rows: rows ?? old.rows,
      filter: filter === undefined ? old.filter : filter,
      sorting: sort ? { ...old.sorting, [rows ?? old.rows]: sort } : old.sorting,
    })),
  sort: (rows, sorting) => set((old) => ({ sorting: { ...old.sorting, [rows]: sorting } })),
  reset: () => set({ rows: "parts", filter: null, sorting: FIRST }),
}));

/** The filter as query parameters of the parts' addresses. */
export const filterQuery = (filter: Filter | null): Record<string, string> =>
  filter ? { [filter.by]: filter.value } : {};
