// Findings of the survey, worst first; each with its parts and the step that would mend it.
import { Plus } from "lucide-react";
import type { Finding, StepData } from "../api/client";
import { count, small } from "../shared/format";

const SIGN = { error: "✗", warning: "▲", info: "·" } as const;
const TONE = { error: "text-error", warning: "text-warning", info: "opacity-80" } as const;

export function stepTitle(kind: string, titles: Map<string, string>) {
  return titles.get(kind) ?? kind.replaceAll("_", " ");
}

type Props = {
  findings: Finding[];
  chosen: string | null;
  onChoose: (finding: Finding | null) => void;
  onMend: (step: StepData) => void;
  onTape: (step: StepData) => boolean;
  titles: Map<string, string>;
  busy: boolean;
};

export function Findings({ findings, chosen, onChoose, onMend, onTape, titles, busy }: Props) {
  if (!findings.length)
    return <p className="p-3 text-success">✓ Nothing found. Every check came back clean.</p>;
  return (
    <ul aria-label="Findings">
      {findings.map((f) => (
        <li
          key={f.id}
          className={`flex items-start gap-2 border-b rule px-3 py-1.5 ${chosen === f.id ? "bg-primary/20" : ""}`}
        >
          <button
            type="button"
            className="flex min-w-0 grow items-start gap-2 text-left"
            aria-pressed={chosen === f.id}
            onClick={() => onChoose(chosen === f.id ? null : f)}
            title={f.partCount ? "Show its parts" : "This finding is about the scene as a whole"}
          >
            <span className={`w-4 shrink-0 text-center font-bold ${TONE[f.severity]}`}>
              <span aria-hidden>{SIGN[f.severity]}</span>
              <span className="sr-only">{f.severity}</span>
            </span>
            <span className="min-w-0">
              <span className="font-semibold">{f.title}</span>
              {f.guess && <span className="badge badge-outline badge-xs ml-2 align-middle">a guess</span>}
              {f.value !== null && f.unit && f.unit !== "meshes" && (
                <span className="ml-2 opacity-80">
                  {Number.isInteger(f.value)
                    ? count(f.value)
                    : small(f.value, f.value < 1 ? 4 : f.value < 100 ? 2 : 0)}{" "}
                  {f.value === 1 ? f.unit.replace(/s$/, "") : f.unit}
                </span>
              )}
              <span className="block leading-snug">{f.text}</span>
            </span>
          </button>
          {f.mend && (
            <button
              type="button"
              className="btn btn-xs mt-0.5 shrink-0"
              disabled={busy || onTape(f.mend as StepData)}
              onClick={() => onMend(f.mend as StepData)}
            >
              {onTape(f.mend as StepData) ? (
                f.mend.kind === "set" ? (
                  "is a set"
                ) : (
                  "on the tape"
                )
              ) : (
                <>
                  <Plus size={12} />{" "}
                  {f.mend.kind === "set" ? `Set “${f.mend.name}”` : stepTitle(f.mend.kind as string, titles)}
                </>
              )}
            </button>
          )}
        </li>
      ))}
    </ul>
  );
}
