import type { LensDefinition } from "./lens";
import { PALE } from "./lens";

export default {
  id: "pivots",
  name: "Pivots",
  legend: "own axes at each pivot · X whole, Y long dashes, Z short dashes",
  rank: 6,
  shade: PALE,
  lines: "pivots",
} satisfies LensDefinition;
