// One set being edited: its rules with live figures, parts by hand, and its treatment.
import { BoxSelect, Eye, Plus, X } from "lucide-react";
import { useEffect } from "react";
import type { Haul, PartSet, Rule, SetFigures, Treatment } from "../api/client";
import { identitiesOf, useView } from "../haul/selection";
import { count, plural } from "../shared/format";
import { NumberInput } from "../shared/NumberInput";

const KINDS = [
  "mesh",
  "instanced",
  "unique",
  "scattered",
  "heavy",
  "converted",
  "hidden",
  "light",
  "camera",
  "helper",
];
const COLLISIONS = ["none", "box", "sphere", "capsule", "hull", "hulls", "mesh"];

type Props = {
  haul: Haul;
  set: PartSet;
  figures: SetFigures | undefined;
  busy: boolean;
  onChange: (set: PartSet) => void;
  onShow: () => void;
  onKeep: () => void;
  onClose: () => void;
};

type Draft = Partial<Rule>;

export function SetEditor({ set, figures, busy, onChange, onShow, onKeep, onClose }: Props) {
  const { selected, box, set: view } = useView();
  const rules = (set.rules ?? []) as Draft[];
  const treatment = (set.treatment ?? {}) as Partial<Treatment>;
  const put = (i: number, change: Draft) =>
    onChange({ ...set, rules: rules.map((r, k) => (k === i ? clean({ ...r, ...change }) : r)) as Rule[] });
  const treat = (change: Partial<Treatment>) =>
    onChange({ ...set, treatment: { ...treatment, ...change } as Treatment });

  // a box that was drawn goes into the last rule that waits for one
  useEffect(() => {
    if (!box) return;
    const i = rules.length - 1;
    const now = rules[i]?.inside;
    if (i < 0 || (now && JSON.stringify([now.min, now.max]) === JSON.stringify([box.min, box.max]))) return;
    onChange({
      ...set,
      rules: rules.map((r, k) =>
        k === i ? { ...r, inside: { ...box, whole: r.inside?.whole ?? false } } : r,
      ) as Rule[],
    });
  }, [box, rules, set, onChange]);
  useEffect(() => () => view({ box: null, drawing: false }), [view]);

  return (
    <div className="flex flex-col gap-2 px-3 py-2">
      <div className="flex items-center gap-3">
        <label className="flex items-center gap-2">
          <span className="font-semibold">Set</span>
          <input
            className="input input-sm w-48"
            value={set.name}
            maxLength={120}
            aria-label="Name of the set"
            onChange={(e) => onChange({ ...set, name: e.target.value })}
          />
        </label>
        <span data-testid="set-figures">
          {figures
            ? `${plural(figures.parts, "part")} of ${plural(figures.meshes, "mesh", "meshes")}, ${plural(figures.triangles, "triangle")}${figures.taken ? `, ${count(figures.taken)} decided further up` : ""}`
            : "counting …"}
        </span>
        <span className="grow" />
        <button type="button" className="btn btn-sm" onClick={onShow}>
          <Eye size={14} /> Show
        </button>
        <button type="button" className="btn btn-sm" onClick={onClose}>
          Cancel
        </button>
        <button
          type="button"
          className="btn btn-primary btn-sm"
          disabled={busy || !set.name.trim()}
          onClick={onKeep}
        >
          Save set
        </button>
      </div>
      {rules.map((rule, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: rules have no identity but their place
        <fieldset key={i} className="rounded-field border rule px-2 py-1.5">
          <legend className="px-1 text-xs opacity-80">{i ? "or parts that are" : "Parts that are"}</legend>
          <div className="grid grid-cols-3 gap-x-3 gap-y-1.5">
            <Words
              label="named"
              value={rule.names}
              hint="bench_*, lamp_post_??"
              onChange={(names) => put(i, { names })}
            />
            <Words
              label="on layer or storey"
              value={rule.layers}
              hint="Level 1"
              onChange={(layers) => put(i, { layers })}
            />
            <Words
              label="of type"
              value={rule.types}
              hint="IfcDoor, D-01"
              onChange={(types) => put(i, { types })}
            />
            <Words
              label="with material"
              value={rule.materials}
              hint="glass*"
              onChange={(materials) => put(i, { materials })}
            />
            <label className="flex flex-col">
              <span className="text-xs opacity-80">of kind</span>
              <select
                className="select select-sm w-full"
                value={rule.kinds?.[0] ?? ""}
                onChange={(e) => put(i, { kinds: (e.target.value ? [e.target.value] : []) as Rule["kinds"] })}
              >
                <option value="">any</option>
                {KINDS.map((k) => (
                  <option key={k}>{k}</option>
                ))}
              </select>
            </label>
            <Range
              label="triangles"
              whole
              least={rule.leastTriangles}
              most={rule.mostTriangles}
              onChange={(leastTriangles, mostTriangles) => put(i, { leastTriangles, mostTriangles })}
            />
            <Range
              label="largest edge, m"
              least={rule.leastSize}
              most={rule.mostSize}
              onChange={(leastSize, mostSize) => put(i, { leastSize, mostSize })}
            />
            <Range
              label="instances"
              whole
              least={rule.leastInstances}
              most={rule.mostInstances}
              onChange={(leastInstances, mostInstances) => put(i, { leastInstances, mostInstances })}
            />
            <div className="flex flex-col">
              <span className="text-xs opacity-80">inside a box</span>
              {rule.inside ? (
                <span className="flex items-center gap-2">
                  <button
                    type="button"
                    className="btn btn-sm"
                    title="Show the box in the view"
                    onClick={() =>
                      view({ box: { min: rule.inside?.min as never, max: rule.inside?.max as never } })
                    }
                  >
                    {[0, 1, 2]
                      .map((k) => ((rule.inside?.max[k] ?? 0) - (rule.inside?.min[k] ?? 0)).toFixed(1))
                      .join(" × ")}{" "}
                    m
                  </button>
                  <label className="flex items-center gap-1">
                    <input
                      type="checkbox"
                      className="checkbox checkbox-xs"
                      checked={!!rule.inside.whole}
                      onChange={(e) =>
                        put(i, {
                          inside: {
                            ...(rule.inside as NonNullable<Rule["inside"]>),
                            whole: e.target.checked,
                          },
                        })
                      }
                    />
                    wholly
                  </label>
                  <button
                    type="button"
                    className="btn btn-ghost btn-xs btn-square"
                    aria-label="Take the box away"
                    onClick={() => {
                      view({ box: null });
                      put(i, { inside: null });
                    }}
                  >
                    <X size={12} />
                  </button>
                </span>
              ) : (
                <button
                  type="button"
                  className="btn btn-sm"
                  disabled={i !== rules.length - 1}
                  onClick={() => view({ drawing: true, box: null, pair: false })}
                >
                  <BoxSelect size={14} /> Draw it in the view
                </button>
              )}
            </div>
          </div>
        </fieldset>
      ))}
      <div className="flex flex-wrap items-center gap-2">
        <button
          type="button"
          className="btn btn-xs"
          onClick={() => onChange({ ...set, rules: [...rules, {}] as Rule[] })}
        >
          <Plus size={12} /> Another rule
        </button>
        <button
          type="button"
          className="btn btn-xs"
          disabled={!selected.size}
          onClick={() =>
            onChange({
              ...set,
              added: [...new Set([...(set.added ?? []), ...identitiesOf(selected)])],
              removed: (set.removed ?? []).filter((r) => !selected.has(r)),
            })
          }
        >
          Add {selected.size ? count(selected.size) : ""} selected by hand
        </button>
        <button
          type="button"
          className="btn btn-xs"
          disabled={!selected.size}
          onClick={() =>
            onChange({
              ...set,
              removed: [...new Set([...(set.removed ?? []), ...identitiesOf(selected)])],
              added: (set.added ?? []).filter((r) => !selected.has(r)),
            })
          }
        >
          Take {selected.size ? count(selected.size) : ""} selected out
        </button>
        {!!set.added?.length && <span>{count(set.added.length)} by hand</span>}
        {!!set.removed?.length && <span>{count(set.removed.length)} taken out</span>}
      </div>
      <fieldset className="flex flex-wrap items-center gap-x-4 gap-y-1.5 border-t rule pt-2">
        <legend className="sr-only">Treatment</legend>
        <span className="font-semibold">Treatment:</span>
        <Check label="left out" value={treatment.leaveOut} onChange={(leaveOut) => treat({ leaveOut })} />
        <Check
          label="lightmapped"
          value={treatment.lightmapped ?? true}
          onChange={(lightmapped) => treat({ lightmapped })}
        />
        <label className="flex items-center gap-1.5">
          weight
          <NumberInput
            className="input input-xs w-16"
            min={0.01}
            max={100}
            value={treatment.lightmapWeight ?? 1}
            onChange={(lightmapWeight) => treat({ lightmapWeight })}
          />
        </label>
        <Check
          label="shadow only"
          value={treatment.shadowOnly}
          onChange={(shadowOnly) => treat({ shadowOnly })}
        />
        <Check label="heavy mesh" value={treatment.heavy} onChange={(heavy) => treat({ heavy })} />
        <Check label="may move" value={treatment.mayMove} onChange={(mayMove) => treat({ mayMove })} />
        <label className="flex items-center gap-1.5">
          collision
          <select
            className="select select-xs w-24"
            value={treatment.collision ?? "none"}
            onChange={(e) => treat({ collision: e.target.value as Treatment["collision"] })}
          >
            {COLLISIONS.map((c) => (
              <option key={c}>{c}</option>
            ))}
          </select>
        </label>
        <label className="flex items-center gap-1.5">
          pieces
          <select
            className="select select-xs w-24"
            value={treatment.joined ?? "separate"}
            onChange={(e) => treat({ joined: e.target.value as Treatment["joined"] })}
          >
            <option>separate</option>
            <option>combined</option>
          </select>
        </label>
      </fieldset>
    </div>
  );
}

/** Without conditions that are empty, so that an empty rule selects nothing. */
function clean(rule: Draft): Draft {
  return Object.fromEntries(
    Object.entries(rule).filter(([, v]) => v !== null && v !== undefined && !(Array.isArray(v) && !v.length)),
  );
}

function Words({
  label,
  value,
  hint,
  onChange,
}: {
  label: string;
  value: string[] | undefined;
  hint: string;
  onChange: (v: string[]) => void;
}) {
  return (
    <label className="flex flex-col">
      <span className="text-xs opacity-80">{label}</span>
      <input
        className="input input-sm w-full"
        placeholder={hint}
        defaultValue={value?.join(", ") ?? ""}
        onChange={(e) =>
          onChange(
            e.target.value
              .split(",")
              .map((s) => s.trim())
              .filter(Boolean),
          )
        }
      />
    </label>
  );
}

function Range({
  label,
  whole,
  least,
  most,
  onChange,
}: {
  label: string;
  whole?: boolean;
  least: number | null | undefined;
  most: number | null | undefined;
  onChange: (least: number | null, most: number | null) => void;
}) {
  return (
    <div className="flex flex-col">
      <span className="text-xs opacity-80">{label}</span>
      <span className="flex items-center gap-1">
        <NumberInput
          className="input input-sm w-full min-w-0"
          placeholder="from"
          aria-label={`${label} from`}
          min={0}
          whole={!!whole}
          value={least}
          onChange={(from) => onChange(from, most ?? null)}
          onEmpty={() => onChange(null, most ?? null)}
        />
        <NumberInput
          className="input input-sm w-full min-w-0"
          placeholder="to"
          aria-label={`${label} to`}
          min={0}
          whole={!!whole}
          value={most}
          onChange={(to) => onChange(least ?? null, to)}
          onEmpty={() => onChange(least ?? null, null)}
        />
      </span>
    </div>
  );
}

function Check({
  label,
  value,
  onChange,
}: {
  label: string;
  value: boolean | undefined;
  onChange: (v: boolean) => void;
}) {
  return (
    <label className="flex items-center gap-1.5">
      <input
        type="checkbox"
        className="checkbox checkbox-xs"
        checked={!!value}
        onChange={(e) => onChange(e.target.checked)}
      />
      {label}
    </label>
  );
}
