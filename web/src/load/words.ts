// Rules and treatments in words.
import type { PartSet, Rule, Treatment } from "../api/client";
import { count, metres } from "../shared/format";

export function oneRule(rule: Partial<Rule>): string {
  const out: string[] = [];
  const list = (word: string, values: string[] | undefined) => {
    if (values?.length) out.push(`${word} ${values.join(" or ")}`);
  };
  list("named", rule.names);
  list("at", rule.paths);
  list("on layer", rule.layers);
  list("of kind", rule.kinds);
  list("of type", rule.types);
  list("with material", rule.materials);
  const between = (
    word: string,
    least: number | null | undefined,
    most: number | null | undefined,
    text: (n: number) => string,
  ) => {
    if (least != null && most != null) out.push(`${text(least)} to ${text(most)} ${word}`.trim());
    else if (least != null) out.push(`at least ${text(least)} ${word}`.trim());
    else if (most != null) out.push(`at most ${text(most)} ${word}`.trim());
  };
  between("triangles", rule.leastTriangles, rule.mostTriangles, count);
  between("large", rule.leastSize, rule.mostSize, metres);
  between("instances", rule.leastInstances, rule.mostInstances, count);
  if (rule.inside) out.push(rule.inside.whole ? "wholly inside a box" : "inside a box");
  return out.join(", ");
}

export function ruleText(set: PartSet): string {
  const rules = (set.rules ?? []).map(oneRule).filter(Boolean);
  const out = rules.length ? [rules.join("; or ")] : [];
  if (set.added?.length) out.push(`${count(set.added.length)} by hand`);
  if (set.removed?.length) out.push(`without ${count(set.removed.length)}`);
  return out.join(", ") || "holds nothing yet";
}

export function treatmentText(t: Partial<Treatment> | undefined): string {
  if (!t) return "as the rest";
  if (t.leaveOut) return "left out";
  const out: string[] = [];
  if (t.heavy) out.push("heavy mesh, never unwrapped");
  else if (t.shadowOnly) out.push("throws a shadow only");
  else if (t.lightmapped === false) out.push("not lightmapped");
  else
    out.push(
      `lightmapped${t.lightmapWeight && t.lightmapWeight !== 1 ? `, weight ${t.lightmapWeight}` : ""}`,
    );
  if (t.collision && t.collision !== "none") out.push(`collision: ${t.collision}`);
  if (t.joined === "combined") out.push("combined");
  if (t.mayMove) out.push("may move");
  return out.join(", ");
}
