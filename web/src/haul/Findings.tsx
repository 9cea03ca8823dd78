// Findings of the survey, worst first; each with its parts and the step that would mend it.
import { Plus } from "lucide-react";
import type { Finding, Mend } from "../api/client";
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
  onMend: (mend: Mend) => void;
  onTape: (mend: Mend) => boolean;
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
          {f.mend && <MendButton mend={f.mend} {...{ onMend, onTape, titles, busy }} />}
        </li>
      ))}
    </ul>
  );
}

type MendProps = Pick<Props, "onMend" | "onTape" | "titles" | "busy"> & { mend: Mend };

function MendButton({ mend, onMend, onTape, titles, busy }: MendProps) {
  const there = onTape(mend);
  const label = mend.step ? stepTitle(mend.step.kind, titles) : `Set “${mend.set?.name ?? ""}”`;
  return (
    <button
      type="button"
      className="btn btn-xs mt-0.5 shrink-0"
      disabled={busy || there}
      onClick={() => onMend(mend)}
    >
      {there ? (
        mend.set ? (
          "is a set"
        ) : (
          "on the tape"
        )
      ) : (
        <>
          <Plus size={12} /> {label}
        </>
      )}
    </button>
  );
}
