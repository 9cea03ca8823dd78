import type { LensDefinition } from "./lens";

export default {
  id: "edges",
  name: "Hard edges",
  legend: "dark: normals part there · saffron dashes: open border",
  rank: 7,
  shade: `
    shown = mix(vec3(0.92, 0.90, 0.86), vec3(0.66, 0.68, 0.68), 1.0 - light);`,
  lines: "edges",
} satisfies LensDefinition;
