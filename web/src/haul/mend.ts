// Putting a proposed mend on the tape: a step of a kind that is there already takes over its numbers.
import type { StepData } from "../api/client";

const ONCE = new Set([
  "match_units_axes",
  "lightmap_uvs",
  "tidy_names",
  "drop_empties",
  "mend_normals",
  "drop_degenerates",
  "first_uvs",
]);
/** Where a new step belongs: units first, geometry next, UV sets, then names and tree. */
const ORDER = [
  "match_units_axes",
  "drop_degenerates",
  "mend_normals",
  "place_pivots",
  "first_uvs",
  "lightmap_uvs",
  "tidy_names",
  "drop_empties",
];

const numbers = (step: StepData) => Object.entries(step).filter(([k]) => k !== "kind" && k !== "enabled");

export function isOnTape(steps: StepData[], mend: StepData): boolean {
  return steps.some(
    (s) =>
      s.kind === mend.kind &&
      s.enabled !== false &&
      numbers(mend).every(([key, value]) =>
        key === "where" && ONCE.has(s.kind)
          ? true
          : JSON.stringify(s[key]) === JSON.stringify(value) || contains(s[key], value),
      ),
  );
}

function contains(has: unknown, wanted: unknown): boolean {
  if (typeof has !== "object" || typeof wanted !== "object" || !has || !wanted) return false;
  return Object.entries(wanted).every(
    ([k, v]) => JSON.stringify((has as Record<string, unknown>)[k]) === JSON.stringify(v),
  );
}

export function withMend(steps: StepData[], mend: StepData): StepData[] {
  const at = steps.findIndex((s) => s.kind === mend.kind && ONCE.has(s.kind));
  if (at >= 0) return steps.map((s, i) => (i === at ? { ...s, ...mend, enabled: true } : s));
  const rank = ORDER.indexOf(mend.kind);
  const before = steps.findIndex((s) => ORDER.indexOf(s.kind) > rank);
  const place = before < 0 ? steps.length : before;
  return [...steps.slice(0, place), mend, ...steps.slice(place)];
}
