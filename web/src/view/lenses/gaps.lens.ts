import type { LensDefinition } from "./lens";
import { PALE } from "./lens";

export default {
  id: "gaps",
  name: "Gaps",
  legend: "hatched teal: parts that light leaks between",
  rank: 10,
  shade: PALE,
  covered: true,
  findings: ["gaps."],
} satisfies LensDefinition;
