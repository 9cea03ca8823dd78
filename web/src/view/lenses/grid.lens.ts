import type { LensDefinition } from "./lens";
import { PALE } from "./lens";

export default {
  id: "grid",
  name: "Grid fit",
  legend: "orange: the whole cells to fill · hatched teal: pieces off them",
  rank: 11,
  shade: PALE,
  covered: true,
  findings: ["grid."],
} satisfies LensDefinition;
