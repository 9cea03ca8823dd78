import type { LensDefinition } from "./lens";
import { PALE } from "./lens";

export default {
  id: "gaps",
  name: "Gaps",
  legend: "orange: both sides of a gap · hatched teal: its parts",
  rank: 10,
  shade: PALE,
  covered: true,
  findings: ["gaps."],
} satisfies LensDefinition;
