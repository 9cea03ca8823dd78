import type { LensDefinition } from "./lens";
import { SIGNED } from "./lens";

export default {
  id: "batches",
  name: "Draw-call batches",
  legend: "one colour and pattern per mesh and material",
  rank: 3,
  shade: SIGNED,
  sign: "batch",
} satisfies LensDefinition;
