import type { LensDefinition } from "./lens";
import { PALE } from "./lens";

export default {
  id: "edge-length",
  name: "Edge length",
  legend: "dark > 2 m · teal dashes > 0.5 m · saffron dots > 0.1 m",
  rank: 12,
  shade: PALE,
  lines: "lengths",
} satisfies LensDefinition;
