import type { LensDefinition } from "./lens";

export default {
  id: "faces",
  name: "Reversed faces",
  legend: "plain: seen from the front · striped saffron: seen from behind",
  rank: 1,
  shade: `
    shown = vec3(0.80, 0.84, 0.83) * light * 1.1;
    if (!front) shown = mix(vec3(0.96, 0.70, 0.18), ink, sign2(1, pixel));`,
} satisfies LensDefinition;
