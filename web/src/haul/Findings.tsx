// Findings of the survey by what they do to the artist, worst first; each with its parts and the step that would mend
// it for all of them or for the chosen ones, or left as it is, with the reason.
import { Plus } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import type { Finding, Mend, StepKind } from "../api/client";
import { count, figure, plural, unitOf } from "../shared/format";
import { Sentence } from "../shared/Sentence";
import { type Effect, groupsOf, SIGN, TONE } from "./effects";
import { counts, parameterOf } from "./mend";
import { Places } from "./Places";

export function stepTitle(kind: string, titles: Map<string, string>) {
  return titles.get(kind) ?? kind.replaceAll("_", " ");
}

type Props = {
  findings: Finding[];
  chosen: string | null;
  /** How many parts are selected in ledger or view. */
  selected: number;
  onChoose: (finding: Finding | null) => void;
  onMend: (mend: Mend, those: boolean) => void;
  onTape: (mend: Mend) => boolean;
  /** Leaves a finding as it is, for all its parts or for the selected ones; without a reason takes that back. */
  onLeave: (finding: Finding, because: string | null, those: boolean) => void;
  titles: Map<string, string>;
  kinds: StepKind[];
  busy: boolean;
};

export function Findings({ findings, ...rest }: Props) {
  const open = findings.filter((f) => !f.left);
  const left = findings.filter((f) => f.left);
  if (!findings.length)
    return <p className="p-3 text-success">✓ Nothing found. Every check came back clean.</p>;
  return (
    <section aria-label="Findings">
      {groupsOf(open).map(([effect, rows]) => (
        <section key={effect} aria-label={effect}>
          <Heading effect={effect} rows={rows} />
          <ul>
            {rows.map((f) => (
              <Row key={f.id} finding={f} {...rest} />
            ))}
          </ul>
        </section>
      ))}
      {left.length > 0 && (
        <details className="border-b rule">
          <summary className="cursor-pointer bg-base-200 px-3 py-1 font-semibold">
            Left as they are: {plural(left.length, "finding")}
          </summary>
          <ul>
            {left.map((f) => (
              <Row key={f.id} finding={f} {...rest} />
            ))}
          </ul>
        </details>
      )}
    </section>
  );
}

function Heading({ effect, rows }: { effect: Effect; rows: Finding[] }) {
  const serious = rows.filter((f) => f.severity !== "info").length;
  return (
    <h2 className="sticky top-0 z-10 flex items-baseline gap-2 border-b rule bg-base-200 px-3 py-0.5 font-semibold">
      {effect.charAt(0).toUpperCase() + effect.slice(1)}
      <span className="text-xs font-normal opacity-80">
        {serious ? plural(serious, "fault") : "nothing serious"}
        {rows.length > serious && serious > 0 ? `, ${plural(rows.length - serious, "note")}` : ""}
      </span>
    </h2>
  );
}

type RowProps = Omit<Props, "findings"> & { finding: Finding };

function Row({
  finding: f,
  chosen,
  selected,
  onChoose,
  onMend,
  onTape,
  onLeave,
  titles,
  kinds,
  busy,
}: RowProps) {
  const [leaving, setLeaving] = useState(false);
  const here = chosen === f.id;
  const row = useRef<HTMLLIElement>(null);
  useEffect(() => {
    if (here) row.current?.scrollIntoView({ block: "nearest" });
  }, [here]);
  const those = here && selected > 0 && !!f.partCount;
  return (
    <li ref={row} className={`scroll-mt-7 border-b rule px-3 py-1.5 ${here ? "bg-primary/20" : ""}`}>
      <div className="flex items-start gap-2">
        <button
          type="button"
          className="flex min-w-0 grow items-start gap-2 text-left"
          aria-pressed={here}
          onClick={() => onChoose(here ? null : f)}
          title={f.partCount ? "Show its parts" : "This finding is about the scene as a whole"}
        >
          <span className={`w-4 shrink-0 text-center font-bold ${TONE[f.severity]}`}>
            <span aria-hidden>{SIGN[f.severity]}</span>
            <span className="sr-only">{f.severity}</span>
          </span>
          <span className="min-w-0">
            <span className="font-semibold">{f.title}</span>
            {f.guess && <span className="badge badge-outline badge-xs ml-2 align-middle">a guess</span>}
            <Measure finding={f} />
            <span className="block leading-snug">
              <Sentence text={f.text} />
            </span>
            {here && f.mend?.step && <Parameters mend={f.mend} kinds={kinds} />}
            {f.left && <span className="block italic leading-snug">Left as it is: {f.left}</span>}
            {!f.left && f.leftParts > 0 && (
              <span className="block italic leading-snug">
                {plural(f.leftParts, "part")} of it left as they are.
              </span>
            )}
          </span>
        </button>
        <span className="flex shrink-0 flex-col items-end gap-1">
          {f.mend && !f.left && (
            <MendButton mend={f.mend} those={false} {...{ onMend, onTape, titles, busy }} />
          )}
          {f.mend?.step && !f.left && those && (
            <button
              type="button"
              className="btn btn-xs"
              disabled={busy}
              onClick={() => f.mend && onMend(f.mend, true)}
            >
              <Plus size={12} /> for the {count(selected)} selected
            </button>
          )}
          {here && !leaving && (
            <button
              type="button"
              className="btn btn-ghost btn-xs"
              disabled={busy}
              onClick={() => (f.left || f.leftParts ? onLeave(f, null, false) : setLeaving(true))}
            >
              {f.left || f.leftParts ? "Take back" : "Leave it …"}
            </button>
          )}
        </span>
      </div>
      {here && !!f.partCount && <Places finding={f} />}
      {here && leaving && (
        <Reason
          those={those ? selected : 0}
          busy={busy}
          onCancel={() => setLeaving(false)}
          onSave={(because, some) => {
            setLeaving(false);
            onLeave(f, because, some);
          }}
        />
      )}
    </li>
  );
}

type Parameter = { title?: string; unit?: string; default?: unknown; only?: Record<string, unknown[]> };

/** What the mend would be put on the tape with. */
function Parameters({ mend, kinds }: { mend: Mend; kinds: StepKind[] }) {
  const kind = kinds.find((k) => k.kind === mend.step?.kind);
  const fields = (kind?.parameters ?? {}) as Record<string, Parameter>;
  const told = Object.entries(fields).flatMap(([key, field]) => {
    const value = mend.step ? parameterOf(mend.step, key) : undefined;
    if (mend.step && !counts(mend.step, fields, field.only)) return [];
    if (value === undefined || value === null || value === "" || typeof value === "object") return [];
    const shown = typeof value === "boolean" ? (value ? "yes" : "no") : String(value);
    return [`${field.title ?? key} ${shown}${field.unit ? ` ${field.unit}` : ""}`];
  });
  if (!told.length) return null;
  return (
    <span className="block leading-snug opacity-80">
      {kind?.title}: {told.join(", ")}
    </span>
  );
}

/** The measured value and what it should be. */
function Measure({ finding: { value, limit, unit } }: { finding: Finding }) {
  if (value === null || !unit || unit === "meshes") return null;
  return (
    <span className="ml-2 opacity-80">
      {figure(value)}
      {unit === "°" ? unit : ` ${unitOf(value, unit)}`}
      {limit !== null && limit !== 0 && `, limit ${figure(limit)}`}
    </span>
  );
}

type ReasonProps = {
  those: number;
  busy: boolean;
  onSave: (because: string, those: boolean) => void;
  onCancel: () => void;
};

function Reason({ those, busy, onSave, onCancel }: ReasonProps) {
  const [because, setBecause] = useState("");
  const said = busy ? "" : because.trim(); // another change is on its way: what was typed waits for it
  return (
    <form
      className="mt-1.5 flex items-center gap-2 pl-6"
      onSubmit={(e) => {
        e.preventDefault();
        if (said) onSave(said, false);
      }}
    >
      <label className="input input-sm min-w-0 grow">
        because
        <input
          // biome-ignore lint/a11y/noAutofocus: it was opened for this, by key or click
          autoFocus
          maxLength={500}
          value={because}
          onChange={(e) => setBecause(e.target.value)}
          onKeyDown={(e) => e.key === "Escape" && onCancel()}
          aria-label="Why it is left as it is"
        />
      </label>
      <button type="submit" className="btn btn-sm" disabled={!said}>
        Leave it
      </button>
      {those > 0 && (
        <button type="button" className="btn btn-sm" disabled={!said} onClick={() => onSave(said, true)}>
          Only the {count(those)} selected
        </button>
      )}
    </form>
  );
}

type MendProps = Pick<RowProps, "onMend" | "onTape" | "titles" | "busy"> & { mend: Mend; those: boolean };

function MendButton({ mend, those, onMend, onTape, titles, busy }: MendProps) {
  const there = onTape(mend);
  const label = mend.step ? stepTitle(mend.step.kind, titles) : `Set “${mend.set?.name ?? ""}”`;
  return (
    <button
      type="button"
      className="btn btn-xs mt-0.5"
      disabled={busy || there}
      title={mend.step ? "Puts the step on the tape, for all parts of the finding" : undefined}
      onClick={() => onMend(mend, those)}
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
