import type { LensDefinition } from "./lens";
import { PALE } from "./lens";

export default {
  id: "edges",
  name: "Hard edges",
  legend: "dark: normals part there · saffron dashes: open border",
  rank: 7,
  shade: PALE,
  lines: "edges",
} satisfies LensDefinition;
