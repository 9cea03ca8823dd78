import type { LensDefinition } from "./lens";
import { PALE } from "./lens";

export default {
  id: "overlaps",
  name: "Overlaps",
  legend: "orange: where surfaces lie on each other · hatched teal: the parts",
  rank: 9,
  shade: PALE,
  covered: true,
  findings: ["flicker.", "part.twice", "geometry.repeated"],
} satisfies LensDefinition;
