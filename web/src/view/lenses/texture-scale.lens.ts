import type { LensDefinition } from "./lens";

// How many metres one repeat covers, by how fast place and coordinates change from pixel to pixel.
export default {
  id: "texture-scale",
  name: "Texture scale",
  legend: "a repeat: dots < 0.3, plain < 1.5, lines < 5 m, stripes more",
  note: "one square per metre of texture",
  rank: 8,
  shade: `
    vec2 du = dFdx(vUv0), dv = dFdy(vUv0);
    float flat_ = abs(du.x * dv.y - du.y * dv.x);
    float solid = length(cross(dFdx(vPosition), dFdy(vPosition)));
    if (uvSets <= 0 || !(flat_ > solid * 1e-7))
      shown = mix(vec3(0.86, 0.84, 0.80) * light, vec3(0.45, 0.20, 0.17), sign2(2, pixel));
    else {
      float metres = exp2(floor(log2(sqrt(solid / flat_)) * 4.0 + 0.5) / 4.0);
      vec2 cell = floor(vUv0 * metres);
      float odd = mod(cell.x + cell.y, 2.0);
      int band = metres < 0.3 ? 3 : metres < 1.5 ? 0 : metres < 5.0 ? 5 : 1;
      vec3 base = metres < 0.3 ? vec3(0.50, 0.55, 0.74) : metres < 1.5 ? vec3(0.36, 0.62, 0.60) : metres < 5.0 ? vec3(0.85, 0.62, 0.28) : vec3(0.74, 0.50, 0.46);
      shown = mix(base, base * 0.72, odd) * (0.6 + 0.45 * light);
      if (band > 0) shown = mix(shown, shown * 0.6, sign2(band, pixel));
    }`,
} satisfies LensDefinition;
