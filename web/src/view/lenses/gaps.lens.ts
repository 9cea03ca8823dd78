import type { LensDefinition } from "./lens";
import { PALE } from "./lens";

export default {
  id: "gaps",
  name: "Gaps",
  legend: "orange lines: both sides of a gap that light leaks through · hatched teal: the parts",
  rank: 10,
  shade: PALE,
  covered: true,
  findings: ["gaps."],
} satisfies LensDefinition;
