import type { LensDefinition } from "./lens";

// The light of the last bake on what reflects it; without one, as unlit paper with a hatch.
export default {
  id: "light",
  name: "Baked light",
  legend: "preview light on base colours · hatched: not baked",
  rank: 5.7,
  shade: `
    if (!baked || vBaked <= 0.0) shown = mix(vec3(0.86, 0.84, 0.80) * light, vec3(0.45, 0.20, 0.17), 0.35 * sign2(2, pixel));
    else {
      vec3 lit = pow(texture(pages, vec3(vPage, vLeaf)).rgb, vec3(2.2));
      shown = toScreen(color.rgb * lit + emissive * 0.2);
    }`,
} satisfies LensDefinition;
