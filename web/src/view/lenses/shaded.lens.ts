import type { LensDefinition } from "./lens";

export default {
  id: "shaded",
  name: "As it looks",
  legend: "base colours; see-through parts are dotted",
  rank: 0,
  shade: `
    if (color.a < 0.99) {
      ivec2 c = ivec2(pixel) & 1;
      if ((c.x ^ c.y) == 0) discard;
    }
    vec3 base = color.rgb;
    if (hasMap) base *= pow(texture(map, vUv0).rgb, vec3(2.2));
    shown = toScreen(base * light * 1.15 + emissive * 0.6);`,
  covered: true,
} satisfies LensDefinition;
