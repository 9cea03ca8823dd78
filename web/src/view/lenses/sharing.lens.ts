import type { LensDefinition } from "./lens";
import { SIGNED } from "./lens";

export default {
  id: "sharing",
  name: "Shared meshes",
  legend: "one colour and pattern per shared mesh · pale: used once",
  rank: 2,
  shade: SIGNED,
  sign: "mesh",
} satisfies LensDefinition;
