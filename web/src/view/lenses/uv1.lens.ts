import type { LensDefinition } from "./lens";
import { uvShade } from "./lens";

export default {
  id: "uv1",
  name: "Lightmap UV set",
  legend: "24 squares across the map · striped: no such set, or outside 0–1",
  rank: 5,
  shade: uvShade(1, 24, true),
} satisfies LensDefinition;
