import type { LensDefinition } from "./lens";
import { PALE } from "./lens";

export default {
  id: "overlaps",
  name: "Overlaps",
  legend: "orange lines: where surfaces lie on each other and flicker · hatched teal: the parts",
  rank: 9,
  shade: PALE,
  covered: true,
  findings: ["flicker.", "part.twice", "geometry.repeated"],
} satisfies LensDefinition;
