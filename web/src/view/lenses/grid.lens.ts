import type { LensDefinition } from "./lens";
import { PALE } from "./lens";

export default {
  id: "grid",
  name: "Grid fit",
  legend: "lines a metre apart · hatched teal: modular pieces off their grid",
  rank: 11,
  shade: `${PALE}
    vec3 apart = abs(fract(vPosition + 0.5) - 0.5) / max(fwidth(vPosition), vec3(1e-6));
    vec3 flat_ = step(vec3(0.98), abs(normalize(cross(dFdx(vPosition), dFdy(vPosition)))));
    float line = min(min(apart.x + 9.0 * flat_.x, apart.y + 9.0 * flat_.y), apart.z + 9.0 * flat_.z);
    shown = mix(ink, shown, smoothstep(0.5, 1.2, line) * 0.75 + 0.25);`,
  covered: true,
  findings: ["grid."],
} satisfies LensDefinition;
