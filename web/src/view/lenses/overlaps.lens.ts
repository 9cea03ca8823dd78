import type { LensDefinition } from "./lens";
import { PALE } from "./lens";

export default {
  id: "overlaps",
  name: "Overlaps",
  legend: "hatched teal: parts that lie on each other and flicker",
  rank: 9,
  shade: PALE,
  covered: true,
  findings: ["flicker.", "part.twice", "geometry.repeated"],
} satisfies LensDefinition;
