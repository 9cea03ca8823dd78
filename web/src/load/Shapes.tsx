// What was no mesh in the source: primitives, curves, extrusions, subdivision surfaces, with another fineness tried out.
import { useQuery } from "@tanstack/react-query";
import { Eye, Plus } from "lucide-react";
import { useEffect, useMemo, useState } from "react";
import { api, type Haul, type StepData } from "../api/client";
import { useStepKinds } from "../api/hooks";
import { isOf, wanted } from "../haul/mend";
import { useView } from "../haul/selection";
import { count, plural } from "../shared/format";
import { NumberInput } from "../shared/NumberInput";

const KINDS: Record<string, string> = {
  primitive: "primitive",
  tube: "curves",
  extrusion: "extrusion",
  subdivision: "subdivision",
};

type Props = { haul: Haul; busy: boolean; onSteps: (steps: StepData[]) => void };

export function Shapes({ haul, busy, onSteps }: Props) {
  const scene = haul.source?.id ?? "";
  const steps = haul.route.steps ?? [];
  const on = steps.find(isOf("make_shapes"));
  const [by, setBy] = useState<"tolerance" | "segments">(on?.segments ? "segments" : "tolerance");
  const [tolerance, setTolerance] = useState(on?.toleranceMm ?? 2);
  const [segments, setSegments] = useState(on?.segments ?? 24);
  const [level, setLevel] = useState<number | null>(on?.level ?? null);
  const [names, setNames] = useState("");
  const kinds = useStepKinds().data;
  const { preview, set } = useView();
  const asked = useMemo(
    () =>
      wanted(kinds ?? [], "make_shapes", {
        ...(by === "tolerance" ? { toleranceMm: tolerance } : { segments }),
        ...(level === null ? {} : { level }),
        ...(names.trim()
          ? {
              where: {
                names: names
                  .split(",")
                  .map((n) => n.trim())
                  .filter(Boolean),
              },
            }
          : {}),
      }),
    [kinds, by, tolerance, segments, level, names],
  );
  const text = asked ? JSON.stringify(asked.step) : "";
  const shapes = useQuery({
    queryKey: ["shapes", scene, text],
    queryFn: () => api.shapes(scene, text),
    enabled: !!scene,
    placeholderData: (old) => old,
  });
  const shown = preview !== null;
  useEffect(() => {
    if (shown && preview !== text) set({ preview: text });
  }, [shown, preview, text, set]);
  useEffect(() => () => set({ preview: null }), [set]);

  if (!haul.source) return null;
  if (shapes.error) return <p className="p-3 text-error">{shapes.error.message}</p>;
  const data = shapes.data;
  if (!data) return <p className="p-3 opacity-80">Looking for shapes …</p>;
  if (!data.total)
    return (
      <p className="p-3">
        Everything in this source came as a mesh. Primitives, curves, extrusions and subdivision surfaces
        would be listed here.
      </p>
    );
  const place = () => {
    if (!asked) return;
    const { step } = asked;
    const at = steps.findIndex((s) => s.kind === "make_shapes");
    if (at >= 0 && !names.trim()) onSteps(steps.map((s, i) => (i === at ? step : s)));
    else {
      const before = steps.findIndex((s) => s.kind === "match_units_axes");
      const i = Math.max(before, 0);
      onSteps([...steps.slice(0, i), step, ...steps.slice(i)]);
    }
    set({ preview: null });
  };
  return (
    <div className="flex flex-col gap-2 px-3 py-2">
      <div className="flex flex-wrap items-end gap-2.5">
        <fieldset className="flex flex-col">
          <legend className="text-xs opacity-80">Round things by</legend>
          <span className="flex items-center gap-2">
            <select
              className="select select-sm w-28"
              aria-label="Round things by"
              value={by}
              onChange={(e) => setBy(e.target.value as "tolerance" | "segments")}
            >
              <option value="tolerance">tolerance</option>
              <option value="segments">segments</option>
            </select>
            {by === "tolerance" ? (
              <label className="input input-sm w-24">
                <NumberInput
                  min={0.01}
                  max={1000}
                  value={tolerance}
                  aria-label="Tolerance in millimetres"
                  onChange={setTolerance}
                />
                <span className="opacity-80">mm</span>
              </label>
            ) : (
              <NumberInput
                className="input input-sm w-20"
                whole
                min={3}
                max={1024}
                value={segments}
                aria-label="Segments of a full circle"
                onChange={setSegments}
              />
            )}
          </span>
        </fieldset>
        <label className="flex flex-col">
          <span className="text-xs opacity-80">Subdivision level</span>
          <select
            className="select select-sm w-24"
            value={level ?? ""}
            onChange={(e) => setLevel(e.target.value === "" ? null : Number(e.target.value))}
          >
            <option value="">as read</option>
            {[0, 1, 2, 3, 4].map((l) => (
              <option key={l} value={l}>
                {l}
              </option>
            ))}
          </select>
        </label>
        <label className="flex flex-col">
          <span className="text-xs opacity-80">Only parts named</span>
          <input
            className="input input-sm w-32"
            placeholder="bollard_*"
            value={names}
            onChange={(e) => setNames(e.target.value)}
          />
        </label>
        <button
          type="button"
          className={`btn btn-sm ${shown ? "btn-secondary" : ""}`}
          aria-pressed={shown}
          onClick={() => set({ preview: shown ? null : text, pair: false })}
        >
          <Eye size={14} /> Try it
        </button>
        <button type="button" className="btn btn-primary btn-sm" disabled={busy} onClick={place}>
          <Plus size={14} /> Put on the tape
        </button>
      </div>
      <p>
        {plural(data.total, "shape")}, drawn with {count(data.triangles)} triangles now,{" "}
        <b>{count(data.then)}</b> then.
      </p>
      <table className="table table-xs" aria-label="Shapes">
        <thead>
          <tr>
            <th>Shape</th>
            <th>Made from</th>
            <th className="text-right">Parts</th>
            <th className="text-right">Triangles now</th>
            <th className="text-right">then</th>
            <th>Made with</th>
          </tr>
        </thead>
        <tbody>
          {data.items.map((s) => (
            <tr key={s.mesh}>
              <td className="max-w-48 truncate">{s.name || "unnamed"}</td>
              <td>
                {KINDS[s.kind] ?? s.kind}
                {s.form !== s.kind && `, ${s.form}`}
              </td>
              <td className="text-right">{count(s.parts)}</td>
              <td className="text-right">{count(s.triangles)}</td>
              <td className="text-right font-semibold">{count(s.then)}</td>
              <td>{madeWith(s.setting)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {data.total > data.items.length && <p>and {count(data.total - data.items.length)} more</p>}
    </div>
  );
}

function madeWith(setting: Record<string, unknown>): string {
  if (setting.level !== undefined) return `level ${setting.level}`;
  if (setting.segments !== undefined) return `${setting.segments} segments`;
  if (setting.toleranceMm !== undefined) return `${setting.toleranceMm} mm`;
  return "exact";
}
