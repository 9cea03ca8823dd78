// Putting a proposed mend on the tape: a step of a kind that is there already takes over what the mend gives.
import type { PartSet, SetProposal, StepData, StepKind, StepOf } from "../api/client";

/** The kinds of steps as the server lists them: phases, and of which one is enough. */
export type Kinds = StepKind[];
/** A step, of whose parameters only the given ones matter. rank: of the phase that it goes to, where that is not its own. */
export type Wanted = { step: StepData; given: readonly string[]; rank?: number };

const once = (kinds: Kinds, kind: string) => kinds.find((k) => k.kind === kind)?.once ?? false;
const rank = (kinds: Kinds, kind: string) =>
  kinds.find((k) => k.kind === kind)?.rank ?? Number.MAX_SAFE_INTEGER;
/** The value of a parameter that is only known by its name, as forms that are made from a schema know it. */
export const parameterOf = (step: StepData, key: string) =>
  new Map<string, unknown>(Object.entries(step)).get(key);

/** Whether a parameter counts beside the values of others. only: those with which it does. */
export const counts = (
  step: StepData,
  fields: Record<string, { default?: unknown }>,
  only: Record<string, unknown[]> = {},
) =>
  Object.entries(only).every(([key, values]) =>
    values.includes(parameterOf(step, key) ?? fields[key]?.default),
  );

/** Narrows a step to its kind, for `find` and `filter`. */
export const isOf =
  <K extends StepData["kind"]>(kind: K) =>
  (step: StepData): step is StepOf<K> =>
    step.kind === kind;

/** A step of a kind with some values and the defaults for the rest; null while the kinds are not known. */
export function wanted<K extends StepData["kind"]>(
  kinds: Kinds,
  kind: K,
  values: Partial<StepOf<K>>,
): Wanted | null {
  const base = kinds.map((k) => k.defaults).find(isOf(kind));
  return base ? { step: { ...base, ...values }, given: Object.keys(values) } : null;
}

/** The step for some parts only. */
export const forThose = ({ step, given }: Wanted, parts: string[]): Wanted => ({
  step: { ...step, where: { ...(step.where ?? {}), parts } },
  given: [...new Set([...given, "where"])],
});

export function isOnTape(steps: StepData[], mend: Wanted, kinds: Kinds): boolean {
  return steps.some(
    (s) =>
      s.kind === mend.step.kind &&
      s.enabled !== false &&
      mend.given
        .filter((key) => key !== "enabled")
        .every((key) => {
          if (key === "where" && once(kinds, s.kind)) return true;
          const [has, value] = [parameterOf(s, key), parameterOf(mend.step, key)];
          if (ofFiles(has) && ofFiles(value))
            return value.every((v) => has.some((h) => h.file === v.file && contains(h, v)));
          return JSON.stringify(has) === JSON.stringify(value) || contains(has, value);
        }),
  );
}

type OfFile = { file: string };
/** What is said of files one by one: a list that grows, and does not replace what is said of others. */
const ofFiles = (value: unknown): value is OfFile[] =>
  Array.isArray(value) && value.length > 0 && value.every((v) => typeof v?.file === "string");

/** A list of what is said of files, with what is said anew in the place of what was. */
function joined(has: unknown, value: unknown): unknown {
  if (!ofFiles(has) || !ofFiles(value)) return value;
  const before = new Map(has.map((h) => [h.file, h]));
  for (const v of value) before.set(v.file, { ...before.get(v.file), ...v });
  return [...before.values()];
}

function contains(has: unknown, sought: unknown): boolean {
  if (typeof has !== "object" || typeof sought !== "object" || !has || !sought) return false;
  const there = new Map<string, unknown>(Object.entries(has));
  return Object.entries(sought).every(([k, v]) => JSON.stringify(there.get(k)) === JSON.stringify(v));
}

/** The route with a step where its phase belongs; one of a kind that is enough takes over what is given. */
export function withMend(steps: StepData[], mend: Wanted | null, kinds: Kinds): StepData[] {
  if (!mend) return steps;
  const { step, given } = mend;
  const at = once(kinds, step.kind) ? steps.findIndex((s) => s.kind === step.kind) : -1;
  if (at >= 0) {
    return steps.map((s, i) => {
      if (i !== at) return s;
      const values = given.map((key) => [key, joined(parameterOf(s, key), parameterOf(step, key))]);
      return { ...s, ...Object.fromEntries(values), enabled: true };
    });
  }
  const mine = mend.rank ?? rank(kinds, step.kind);
  const before = steps.findIndex((s) => rank(kinds, s.kind) > mine);
  const place = before < 0 ? steps.length : before;
  return [...steps.slice(0, place), step, ...steps.slice(place)];
}

/** A set that a finding proposes, under an id of its own; one of that name is replaced. */
export function withSet(sets: PartSet[], proposal: SetProposal): PartSet[] {
  const made: PartSet = {
    id: `set-${proposal.name.toLowerCase().replace(/[^a-z0-9]+/g, "-")}`.slice(0, 40),
    name: proposal.name,
    rules: proposal.rules ?? [],
    added: proposal.added ?? [],
    removed: [],
    treatment: proposal.treatment,
  };
  return [...sets.filter((s) => s.name !== made.name), made];
}

export const hasSet = (sets: PartSet[], proposal: SetProposal): boolean =>
  sets.some((s) => s.name === proposal.name);
