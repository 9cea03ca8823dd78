// Evidence for the unit: each usual factor with the things of known size that speak for it; the artist decides.
import type { Candidate, Haul, StepData } from "../api/client";
import { useStepKinds } from "../api/hooks";
import { isOf, wanted, withMend } from "../haul/mend";
import { useView } from "../haul/selection";
import { count, metres, plural } from "../shared/format";

type Props = { haul: Haul; busy: boolean; onSteps: (steps: StepData[]) => void };

export function UnitEvidence({ haul, busy, onSteps }: Props) {
  const { mark } = useView();
  const kinds = useStepKinds().data ?? [];
  const source = haul.source;
  if (!source) return null;
  const steps = haul.route.steps ?? [];
  const step = steps.filter(isOf("match_units_axes")).find((s) => s.enabled !== false);
  const told = step?.sourceMetresPerUnit ?? null;
  // what was only assumed is in force once it was taken, not before
  const declared = source.convention.declared;
  const inForce = told ?? (declared ? source.convention.metresPerUnit : null);
  const best = source.units.find((c) => c.likeliest);
  const total = source.units[0]?.total ?? 0;
  const choose = (c: Candidate) =>
    onSteps(
      withMend(
        steps,
        wanted(kinds, "match_units_axes", {
          sourceMetresPerUnit: c.stated && declared ? null : c.metresPerUnit,
        }),
        kinds,
      ),
    );
  return (
    <div className="flex flex-col gap-2 px-3 py-2">
      <p>
        The {declared ? "file says" : "format says nothing; assumed is"} <b>{source.convention.label}</b>.{" "}
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
            <th />
          </tr>
        </thead>
        <tbody>
          {source.units.slice(0, 10).map((c) => {
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
                    onClick={() => choose(c)}
                  >
                    {chosen ? "in use" : "Use"}
                  </button>
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </div>
  );
}
