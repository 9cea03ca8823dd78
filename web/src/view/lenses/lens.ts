// What a lens is; each stands in a file of its own beside this one, and that is all there is to adding one.

import type { Lines } from "../lines";

export type LensDefinition = {
  /** Its name in the state of the view and in addresses. */
  id: string;
  /** What the list calls it, and what the line below the view says of its signs. */
  name: string;
  legend: string;
  /** What there is no room for in the legend; shown when one points at it. */
  note?: string;
  /** Place in the list. */
  rank: number;
  /**
   * GLSL that sets `vec3 shown`. At hand: `pixel`, `front` (seen from the front), `light`, `ink`, `color`, `emissive`,
   * `tint` and `pattern` (its sign), `hasMap` and `map`, `uvSets`, `vUv0`, `vUv1`, `vMap` (texels of the
   * part's lightmap, 0 for none), `baked`, `pages`,
   * `vPage`, `vLeaf` and `vBaked` (light of a bake, 0 for parts without), and the functions of material.ts.
   */
  shade: string;
  /** Which number of a batch gives tint and pattern: that of its mesh or that of the batch itself. */
  sign?: "mesh" | "batch";
  /** Lines over the parts: their pivots, their hard edges, or all edges by length. */
  lines?: Lines;
  /** Beginnings of codes of findings: the parts that they name are marked. */
  findings?: readonly string[];
  /** Marks of selected parts may cover what it shows. */
  covered?: boolean;
};

/** Pale where a part has no such UV set, a checker where it has. */
export const uvShade = (channel: 0 | 1, cells: number, unit: boolean) => `
    if (uvSets <= ${channel}) shown = mix(vec3(0.86, 0.84, 0.80) * light, vec3(0.45, 0.20, 0.17), sign2(2, pixel));
    else shown = checker(vUv${channel}, ${cells.toFixed(1)}, ${unit}) * light * 1.1;`;

/** Paper and shade only, for what is drawn or marked on it. */
export const PALE = `
    shown = mix(vec3(0.92, 0.90, 0.86), vec3(0.66, 0.68, 0.68), 1.0 - light);`;

/** Its sign as colour and pattern. */
export const SIGNED = `
    shown = tint * (0.55 + 0.5 * light);
    if (pattern > 0) shown = mix(shown, shown * 0.62, sign2(pattern, pixel));`;
