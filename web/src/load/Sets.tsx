// Sets: saved selections by rule and by hand, each with its treatment; the first in the list decides.
import { useQuery } from "@tanstack/react-query";
import { ArrowDown, ArrowUp, Plus, Trash2 } from "lucide-react";
import { useEffect, useState } from "react";
import { api, type Haul, type PartSet, type StepData, type StepOf, type Treatment } from "../api/client";
import { useStepKinds } from "../api/hooks";
import { isOf, wanted, withMend } from "../haul/mend";
import { identitiesOf, useView } from "../haul/selection";
import { count, plural } from "../shared/format";
import { SetEditor } from "./SetEditor";
import { ruleText, treatmentText } from "./words";

type Props = {
  haul: Haul;
  busy: boolean;
  onSets: (sets: PartSet[]) => void;
  onSteps: (steps: StepData[]) => void;
};

type Travels = StepOf<"what_travels">;
const ANIMATION: Record<Travels["animation"], string> = {
  all: "all",
  range: "a range",
  frame: "one time",
  rest: "rest pose",
};
const KINDS_OF_ANIMATION = ["all", "range", "frame", "rest"] as const satisfies Travels["animation"][];
const SWITCHES: [
  keyof Pick<Travels, "lights" | "cameras" | "helpers" | "hidden" | "morphs" | "bones">,
  string,
][] = [
  ["lights", "lights"],
  ["cameras", "cameras"],
  ["hidden", "switched-off parts"],
  ["helpers", "helpers"],
  ["bones", "idle bones"],
  ["morphs", "idle morph targets"],
];

export function Sets({ haul, busy, onSets, onSteps }: Props) {
  const kinds = useStepKinds().data ?? [];
  const scene = haul.source?.id ?? "";
  const saved = haul.route.sets as PartSet[];
  const [draft, setDraft] = useState<{ at: number; set: PartSet } | null>(null);
  const { selected, mark, look } = useView();
  const live = draft ? saved.map((s, i) => (i === draft.at ? draft.set : s)) : saved;
  const listed = draft && draft.at >= saved.length ? [...live, draft.set] : live;
  const figures = useQuery({
    queryKey: ["sets", scene, JSON.stringify(listed)],
    queryFn: () => api.setFigures(scene, listed),
    enabled: !!scene && listed.length > 0,
    placeholderData: (old) => old,
    meta: { asked: "Figures of the sets" },
  }).data;
  const show = async (set: PartSet) => {
    const p = await api.setMembers(scene, set);
    mark(p.sources.length ? p.sources : null);
    const span = p.max.map((v, i) => v - (p.min[i] ?? 0));
    if (p.sources.length)
      look({
        source: -1,
        centre: p.max.map((v, i) => (v + (p.min[i] ?? 0)) / 2) as [number, number, number],
        size: Math.hypot(...span) / 2,
      });
  };
  useEffect(() => () => mark(null), [mark]);

  if (!haul.source) return null;
  const move = (i: number, by: number) => {
    const next = [...saved];
    const [one] = next.splice(i, 1);
    if (one) next.splice(i + by, 0, one);
    onSets(next);
  };
  const begin = () =>
    setDraft({
      at: saved.length,
      set: {
        id: `set-${Date.now().toString(36)}`,
        name: `Set ${saved.length + 1}`,
        rules: [{}],
        added: identitiesOf(selected),
        removed: [],
        treatment: {},
      } as unknown as PartSet,
    });

  if (draft)
    return (
      <SetEditor
        haul={haul}
        set={draft.set}
        figures={figures?.[draft.at]}
        onChange={(set) => setDraft({ ...draft, set })}
        onShow={() => show(draft.set)}
        onClose={() => {
          setDraft(null);
          mark(null);
        }}
        onKeep={() => {
          onSets(listed);
          setDraft(null);
        }}
        busy={busy}
      />
    );
  const steps = haul.route.steps ?? [];
  const travels = steps.find(isOf("what_travels"));
  const change = (values: Partial<Travels>) =>
    onSteps(steps.map((s) => (s === travels ? { ...travels, ...values } : s)));
  return (
    <div className="flex flex-col gap-2 px-3 py-2">
      <fieldset className="flex flex-wrap items-center gap-x-4 gap-y-1 border-b rule pb-2" disabled={busy}>
        <legend className="sr-only">Kinds that travel</legend>
        <span className="font-semibold">Travel along:</span>
        {travels ? (
          <>
            {SWITCHES.map(([key, label]) => (
              <label key={key} className="flex items-center gap-1.5">
                <input
                  type="checkbox"
                  className="checkbox checkbox-xs"
                  checked={!!travels[key]}
                  onChange={(e) => change({ [key]: e.target.checked })}
                />
                {label}
              </label>
            ))}
            <label className="flex items-center gap-1.5">
              animation
              <select
                className="select select-xs w-28"
                value={travels.animation}
                onChange={(e) => {
                  const animation = KINDS_OF_ANIMATION.find((k) => k === e.target.value);
                  if (animation) change({ animation });
                }}
              >
                {KINDS_OF_ANIMATION.map((k) => (
                  <option key={k} value={k}>
                    {ANIMATION[k]}
                  </option>
                ))}
              </select>
            </label>
          </>
        ) : (
          <button
            type="button"
            className="btn btn-xs"
            onClick={() => onSteps(withMend(steps, wanted(kinds, "what_travels", {}), kinds))}
          >
            <Plus size={12} /> Choose by kind
          </button>
        )}
      </fieldset>
      <div className="flex items-center gap-3">
        <p className="min-w-0 opacity-80">
          {saved.length
            ? "A part in several sets is treated as the first of them says."
            : "A set holds parts by rule or by hand and says how they are dealt with: left out, unwrapped or not, with what collision."}
        </p>
        <button type="button" className="btn btn-primary btn-sm ml-auto" disabled={busy} onClick={begin}>
          <Plus size={14} /> New set{selected.size ? ` of ${count(selected.size)} selected` : ""}
        </button>
      </div>
      {saved.length > 0 && (
        <ol aria-label="Sets in order of precedence">
          {saved.map((s, i) => {
            const f = figures?.[i];
            return (
              <li key={s.id} className="flex items-center gap-2 border-b rule py-1">
                <span className="w-5 shrink-0 text-right font-semibold">{i + 1}</span>
                <button
                  type="button"
                  className="min-w-0 grow text-left"
                  onClick={() => show(s)}
                  title="Show its parts"
                >
                  <span className="font-semibold">{s.name}</span>{" "}
                  <span className="opacity-80">{ruleText(s)}</span>
                  <span className="block truncate">{treatmentText(s.treatment as Treatment)}</span>
                </button>
                <span className="w-44 shrink-0 text-right">
                  {f ? `${plural(f.parts, "part")}, ${plural(f.triangles, "triangle")}` : "…"}
                  {f && f.taken > 0 && (
                    <span className="block text-xs text-warning">▲ {count(f.taken)} decided further up</span>
                  )}
                </span>
                <button
                  type="button"
                  className="btn btn-xs"
                  disabled={busy}
                  onClick={() => setDraft({ at: i, set: s })}
                >
                  Edit
                </button>
                <button
                  type="button"
                  className="btn btn-ghost btn-xs btn-square"
                  aria-label={`${s.name} up`}
                  disabled={busy || i === 0}
                  onClick={() => move(i, -1)}
                >
                  <ArrowUp size={12} />
                </button>
                <button
                  type="button"
                  className="btn btn-ghost btn-xs btn-square"
                  aria-label={`${s.name} down`}
                  disabled={busy || i === saved.length - 1}
                  onClick={() => move(i, 1)}
                >
                  <ArrowDown size={12} />
                </button>
                <button
                  type="button"
                  className="btn btn-ghost btn-xs btn-square"
                  aria-label={`Delete ${s.name}`}
                  disabled={busy}
                  onClick={() => onSets(saved.filter((_, k) => k !== i))}
                >
                  <Trash2 size={12} />
                </button>
              </li>
            );
          })}
        </ol>
      )}
    </div>
  );
}
