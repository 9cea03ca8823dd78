import type { LensDefinition } from "./lens";

// Metres of a lightmap texel, by how fast place and texel change from pixel to pixel; lines where a band ends, and where
// texels are large on the screen, the texels themselves.
export default {
  id: "texel-density",
  name: "Lightmap texels",
  legend: "dots < 2, plain < 5, lines < 10, stripes < 20 cm a texel",
  note: "squares: texels, or 16 of them",
  rank: 5.5,
  shade: `
    vec2 texel = vUv1 * vMap;
    vec2 du = dFdx(texel), dv = dFdy(texel);
    float flat_ = abs(du.x * dv.y - du.y * dv.x);
    float solid = length(cross(dFdx(vPosition), dFdy(vPosition)));
    if (uvSets <= 1 || vMap.x < 1.0 || !(flat_ > solid * 1e-7))
      shown = mix(vec3(0.86, 0.84, 0.80) * light, vec3(0.45, 0.20, 0.17), 0.35 * sign2(2, pixel));
    else {
      float metres = sqrt(solid / flat_);
      float large = sqrt(flat_) < 0.22 ? 1.0 : 16.0;
      vec2 cell = floor(texel / large);
      float odd = mod(cell.x + cell.y, 2.0);
      int band = metres < 0.02 ? 3 : metres < 0.05 ? 0 : metres < 0.10 ? 5 : metres < 0.20 ? 4 : 1;
      vec3 base = metres < 0.02 ? vec3(0.50, 0.55, 0.74) : metres < 0.05 ? vec3(0.36, 0.62, 0.60) : metres < 0.10 ? vec3(0.55, 0.66, 0.38) : metres < 0.20 ? vec3(0.85, 0.62, 0.28) : vec3(0.74, 0.50, 0.46);
      shown = mix(base, base * 0.8, odd) * (0.6 + 0.45 * light);
      if (band > 0) shown = mix(shown, shown * 0.66, 0.8 * sign2(band, pixel));
    }`,
} satisfies LensDefinition;
