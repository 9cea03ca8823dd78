// What findings do to the artist, in the order in which they are shown.
import type { Finding } from "../api/client";

export type Effect = Finding["effect"];

const ORDER: readonly Effect[] = [
  "breaks in the engine",
  "looks wrong",
  "flickers",
  "leaks light",
  "wastes",
  "to know",
];
const RANK = { error: 0, warning: 1, info: 2 } as const;
export const SIGN = { error: "✗", warning: "▲", info: "·" } as const;
export const TONE = { error: "text-error", warning: "text-warning", info: "opacity-80" } as const;

/** Groups of findings, those with the worst in it first; within a group as they came, which is worst first. */
export function groupsOf(findings: readonly Finding[]): [Effect, Finding[]][] {
  const worst = (rows: Finding[]) => Math.min(...rows.map((f) => RANK[f.severity]));
  return ORDER.map((effect): [Effect, Finding[]] => [effect, findings.filter((f) => f.effect === effect)])
    .filter(([, rows]) => rows.length)
    .sort((a, b) => worst(a[1]) - worst(b[1]));
}
