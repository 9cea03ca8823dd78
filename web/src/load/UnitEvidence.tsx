// Evidence for the unit: each usual factor with the things of known size that speak for it; the artist decides. Of several
// files each is judged and decided by itself.
import { useState } from "react";
import type { Candidate, FileUnit, Haul, SceneInfo, StepData, StepOf } from "../api/client";
import { useStepKinds } from "../api/hooks";
import { isOf, wanted, withMend } from "../haul/mend";
import { useView } from "../haul/selection";
import { count, metres, plural } from "../shared/format";

type Props = { haul: Haul; busy: boolean; onSteps: (steps: StepData[]) => void };
type Match = StepOf<"match_units_axes">;
/** What is judged: the source, or one of its files. */
type Told = Pick<FileUnit, "convention" | "units"> & { file: string | null };

/** One unit in metres as it was decided, or as the file declares; null while it was only assumed. What was decided for the
 * source as a whole makes all of it so many times larger. */
function inForce(told: Told, step: Match | undefined, whole: number): number | null {
  const own = step?.files?.find((f) => f.file === told.file)?.metresPerUnit;
  if (own) return own;
  if (step?.sourceMetresPerUnit) return (told.convention.metresPerUnit * step.sourceMetresPerUnit) / whole;
  return told.convention.declared ? told.convention.metresPerUnit : null;
}

/** The source, or each of its files where there are several. */
const toldOf = (source: SceneInfo): Told[] =>
  source.files.length ? source.files : [{ file: null, convention: source.convention, units: source.units }];

const matchOf = (haul: Haul): Match | undefined =>
  (haul.route.steps ?? []).filter(isOf("match_units_axes")).find((s) => s.enabled !== false);

/** Whether the unit of something is still only assumed. */
export const onlyAssumed = (haul: Haul): boolean => {
  const source = haul.source;
  if (!source) return false;
  const whole = source.convention.metresPerUnit;
  return toldOf(source).some((t) => inForce(t, matchOf(haul), whole) === null);
};

export function UnitEvidence({ haul, busy, onSteps }: Props) {
  const kinds = useStepKinds().data ?? [];
  const [open, setOpen] = useState("");
  const source = haul.source;
  if (!source) return null;
  const steps = haul.route.steps ?? [];
  const step = matchOf(haul);
  const told = toldOf(source);
  const whole = source.convention.metresPerUnit;
  const shown = told.find((t) => t.file === open) ?? told[0];
  if (!shown) return null;
  const choose = (c: Candidate) => {
    const { file, convention } = shown;
    const mend = file
      ? wanted(kinds, "match_units_axes", { files: [{ file, metresPerUnit: c.metresPerUnit }] })
      : wanted(kinds, "match_units_axes", {
          sourceMetresPerUnit: c.stated && convention.declared ? null : c.metresPerUnit,
        });
    onSteps(withMend(steps, mend, kinds));
  };
  return (
    <div className="flex flex-col gap-2 px-3 py-2">
      {shown.file && (
        <Files told={told} now={(t) => inForce(t, step, whole)} shown={shown.file} onShow={setOpen} />
      )}
      <Judged told={shown} inForce={inForce(shown, step, whole)} busy={busy} onChoose={choose} />
    </div>
  );
}

type FilesProps = {
  told: Told[];
  now: (told: Told) => number | null;
  shown: string;
  onShow: (file: string) => void;
};

/** The files of the source with what each says and what it is read as; one of them is judged below. */
function Files({ told, now, shown, onShow }: FilesProps) {
  return (
    <div className="max-h-48 overflow-y-auto border-b rule pb-2">
      <table className="table table-xs" aria-label="Units of the files">
        <thead>
          <tr>
            <th>File</th>
            <th>It says</th>
            <th>Read as</th>
            <th>What it holds speaks for</th>
          </tr>
        </thead>
        <tbody>
          {told.map((t) => {
            const best = t.units.find((c) => c.likeliest);
            const unit = now(t);
            const open = best && (unit === null || Math.abs(best.metresPerUnit / unit - 1) > 1e-9);
            return (
              <tr key={t.file} className={t.file === shown ? "bg-primary/20" : ""}>
                <td>
                  <button
                    type="button"
                    className="link break-all text-left"
                    aria-pressed={t.file === shown}
                    onClick={() => onShow(t.file ?? "")}
                  >
                    {t.file}
                  </button>
                </td>
                <td>{t.convention.declared ? t.convention.label : "nothing"}</td>
                <td>{unit === null ? `${t.convention.label}, assumed` : unitOf(t, unit)}</td>
                <td>
                  {best ? best.label : "–"}
                  {open && <b> – to be decided</b>}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </div>
  );
}

const unitOf = (told: Told, now: number) =>
  told.units.find((c) => Math.abs(c.metresPerUnit / now - 1) < 1e-9)?.label ?? `${now} m`;

type JudgedProps = { told: Told; inForce: number | null; busy: boolean; onChoose: (c: Candidate) => void };

function Judged({ told, inForce, busy, onChoose }: JudgedProps) {
  const { mark } = useView();
  const { declared, label } = told.convention;
  const best = told.units.find((c) => c.likeliest);
  const total = told.units[0]?.total ?? 0;
  return (
    <>
      <p>
        The {declared ? "file says" : "format says nothing; assumed is"} <b>{label}</b>.{" "}
        {total
          ? `${plural(total, "thing has", "things have")} a name or type that tells the size.`
          : "Nothing in it has a name or type that tells a size; only the whole can be judged."}
        {best && !best.stated && (
          <>
            {" "}
            What there is speaks for one unit being{" "}
            <b>
              {best.label === "inch" ? "an" : "a"} {best.label}
            </b>
            <span className="badge badge-outline badge-xs ml-2 align-middle">a guess</span>
          </>
        )}
      </p>
      <table className="table table-xs" aria-label="Units that the scene may be in">
        <thead>
          <tr>
            <th>One unit is</th>
            <th className="text-right">Things that fit</th>
            <th>For example</th>
            <th className="text-right">The whole measures</th>
            <th>
              <span className="sr-only">Choose</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {told.units.slice(0, 10).map((c) => {
            const chosen = inForce !== null && Math.abs(c.metresPerUnit / inForce - 1) < 1e-9;
            return (
              <tr
                key={c.metresPerUnit}
                className={chosen ? "bg-primary/20" : ""}
                onMouseEnter={() => c.parts.length && mark(c.parts)}
                onMouseLeave={() => mark(null)}
              >
                <td>
                  {c.label}
                  {c.stated && <span className="ml-1 opacity-80">({declared ? "stated" : "assumed"})</span>}
                  {c.likeliest && <b className="ml-1">likeliest</b>}
                </td>
                <td className="text-right">
                  <span className="inline-flex items-center gap-2 whitespace-nowrap">
                    <span aria-hidden className="inline-block h-2 w-16 border rule">
                      <span
                        className="block h-full bg-secondary"
                        style={{ width: `${c.total ? (100 * c.fitting) / c.total : 0}%` }}
                      />
                    </span>
                    {count(c.fitting)} of {count(c.total)}
                  </span>
                </td>
                <td>{c.example || "–"}</td>
                <td className="text-right">{metres(c.size)}</td>
                <td className="text-right">
                  <button
                    type="button"
                    className="btn btn-xs whitespace-nowrap"
                    disabled={busy || chosen}
                    onClick={() => onChoose(c)}
                  >
                    {chosen ? "in use" : "Use"}
                  </button>
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </>
  );
}
