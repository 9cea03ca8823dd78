// Putting a proposed mend on the tape: a step of a kind that is there already takes over its numbers.
import type { PartSet, StepData, StepKind } from "../api/client";

/** The kinds of steps as the server lists them: phases, and of which one is enough. */
export type Kinds = StepKind[];
const once = (kinds: Kinds, kind: string) => kinds.find((k) => k.kind === kind)?.once ?? false;
const rank = (kinds: Kinds, kind: string) =>
  kinds.find((k) => k.kind === kind)?.rank ?? Number.MAX_SAFE_INTEGER;

const numbers = (step: StepData) => Object.entries(step).filter(([k]) => k !== "kind" && k !== "enabled");

export function isOnTape(steps: StepData[], mend: StepData, kinds: Kinds): boolean {
  return steps.some(
    (s) =>
      s.kind === mend.kind &&
      s.enabled !== false &&
      numbers(mend).every(([key, value]) =>
        key === "where" && once(kinds, s.kind)
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

/** The route with a step where its phase belongs; one of a kind that is enough takes over the numbers. */
export function withMend(steps: StepData[], mend: StepData, kinds: Kinds): StepData[] {
  const at = once(kinds, mend.kind) ? steps.findIndex((s) => s.kind === mend.kind) : -1;
  if (at >= 0) return steps.map((s, i) => (i === at ? { ...s, ...mend, enabled: true } : s));
  const before = steps.findIndex((s) => rank(kinds, s.kind) > rank(kinds, mend.kind));
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
