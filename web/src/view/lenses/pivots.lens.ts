import type { LensDefinition } from "./lens";

export default {
  id: "pivots",
  name: "Pivots",
  legend: "own axes at each pivot · X whole, Y long dashes, Z short dashes",
  rank: 6,
  shade: `
    shown = mix(vec3(0.90, 0.89, 0.86), vec3(0.72, 0.72, 0.70), 1.0 - light);`,
  lines: "pivots",
} satisfies LensDefinition;
