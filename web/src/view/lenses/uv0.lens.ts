import type { LensDefinition } from "./lens";
import { uvShade } from "./lens";

export default {
  id: "uv0",
  name: "First UV set",
  legend: "four squares per repeat · striped: no such set",
  rank: 4,
  shade: uvShade(0, 4, false),
} satisfies LensDefinition;
