// All lenses, in their order; whatever stands in this folder as *.lens.ts is one.
import type { LensDefinition } from "./lens";

const files = import.meta.glob<LensDefinition>("./*.lens.ts", { eager: true, import: "default" });
export const LENSES: readonly LensDefinition[] = Object.values(files).sort((a, b) => a.rank - b.rank);
export type Lens = string;
export const lensOf = (id: Lens): LensDefinition | undefined => LENSES.find((l) => l.id === id);
export const lensNumber = (lens: Lens) =>
  Math.max(
    0,
    LENSES.findIndex((l) => l.id === lens),
  );
