// Putting a proposed mend on the tape: a step of a kind that is there already takes over its numbers.
import type { PartSet, StepData } from "../api/client";

const ONCE = new Set([
  "what_travels",
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
  "what_travels",
  "make_shapes",
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

/** A set that a finding proposes, under an id of its own; one of that name is replaced. */
export function withSet(sets: PartSet[], proposal: StepData): PartSet[] {
  const made = {
    id: `set-${String(proposal.name)
      .toLowerCase()
      .replace(/[^a-z0-9]+/g, "-")}`.slice(0, 40),
    name: String(proposal.name),
    rules: proposal.rules,
    added: [],
    removed: [],
    treatment: proposal.treatment,
  } as unknown as PartSet;
  return [...sets.filter((s) => s.name !== made.name), made];
}

export const hasSet = (sets: PartSet[], proposal: StepData): boolean =>
  sets.some((s) => s.name === proposal.name);
