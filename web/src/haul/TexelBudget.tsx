// What lightmaps weigh: a texel size or so many megabytes, the maps that follow, and what a little coarser would save.
import { useState } from "react";
import type { Haul, LightReport, StepData, StepKind } from "../api/client";
import { useLight } from "../api/hooks";
import { count, metres, plural } from "../shared/format";
import { NumberInput } from "../shared/NumberInput";
import { useDebounced } from "../shared/useDebounced";
import { withMend } from "./mend";
import { useView } from "./selection";

type Props = { haul: Haul; kinds: StepKind[]; busy: boolean; onSteps: (steps: StepData[]) => void };
type Budget = Extract<StepData, { kind: "light_budget" }>;

const FINEST = 0.005;
const COARSEST = 1;
const STEPS = 200;
/** Sizes as a slider has them: every step is as many times finer as the one before. */
const toSlider = (m: number) =>
  Math.round(
    (STEPS * Math.log(COARSEST / Math.min(COARSEST, Math.max(FINEST, m)))) / Math.log(COARSEST / FINEST),
  );
const fromSlider = (n: number) => COARSEST * (FINEST / COARSEST) ** (n / STEPS);
const mb = (bytes: number) => `${(bytes / 1e6).toFixed(bytes < 1e7 ? 2 : 1)} MB`;
const share = (part: number) => `${Math.round(part * 100)} %`;

export function TexelBudget({ haul, kinds, busy, onSteps }: Props) {
  const steps = haul.route.steps ?? [];
  const at = steps.findIndex((s) => s.kind === "light_budget");
  const step = steps[at] as Budget | undefined;
  const [by, setBy] = useState<"texel" | "megabytes">(step?.by ?? "texel");
  const [texel, setTexel] = useState(step?.texelM ?? 0.05);
  const [megabytes, setMegabytes] = useState(step?.megabytes ?? 64);
  const [ceiling, setCeiling] = useState(step?.ceilings ?? 0.5);
  const [unseen, setUnseen] = useState(step?.unseen ?? 1);
  const wanted = useDebounced(
    by === "texel" ? { texelM: texel, ceiling, unseen } : { megabytes, ceiling, unseen },
    80,
  );
  const scene = (haul.result ?? haul.source)?.id ?? "";
  const { data, error } = useLight(scene, wanted);
  const put = () => {
    const values = { by, texelM: Number(texel.toFixed(5)), megabytes, ceilings: ceiling, unseen };
    const base = kinds.find((k) => k.kind === "light_budget")?.defaults;
    if (step) onSteps(steps.map((s, i) => (i === at ? ({ ...s, ...values } as StepData) : s)));
    else if (base) onSteps(withMend(steps, { step: { ...base, ...values } as StepData, given: [] }, kinds));
  };
  const same =
    step &&
    step.by === by &&
    step.ceilings === ceiling &&
    step.unseen === unseen &&
    (by === "texel" ? Math.abs((step.texelM ?? 0) - texel) < 1e-5 : step.megabytes === megabytes);
  return (
    <section aria-label="Texel budget" className="flex flex-col gap-2 border-t rule pt-2">
      <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <h2 className="font-semibold">Texel budget</h2>
        <label className="flex items-center gap-1.5">
          <input
            type="radio"
            className="radio radio-xs"
            name="by"
            checked={by === "texel"}
            onChange={() => setBy("texel")}
          />
          Texel size
        </label>
        <label className="flex items-center gap-1.5">
          <input
            type="radio"
            className="radio radio-xs"
            name="by"
            checked={by === "megabytes"}
            onChange={() => setBy("megabytes")}
          />
          Megabytes
        </label>
        {by === "texel" ? (
          <label className="flex min-w-0 grow basis-48 items-center gap-2">
            <input
              type="range"
              className="range range-xs w-20 grow"
              aria-label="Texel size, coarse to fine"
              min={0}
              max={STEPS}
              value={toSlider(texel)}
              onChange={(e) => setTexel(fromSlider(Number(e.target.value)))}
            />
            <span className="w-16 shrink-0 text-right font-semibold tabular-nums">{metres(texel)}</span>
          </label>
        ) : (
          <label className="input input-xs w-32">
            <NumberInput
              aria-label="Megabytes of all lightmaps"
              min={0.001}
              max={1e6}
              value={megabytes}
              onChange={setMegabytes}
            />
            MB
          </label>
        )}
        <label
          className="flex items-center gap-1.5"
          title="Flat parts above head height; 1 treats them like the rest"
        >
          Ceilings ×
          <NumberInput
            className="input input-xs w-14"
            aria-label="Weight of ceilings"
            min={0.05}
            max={10}
            value={ceiling}
            onChange={setCeiling}
          />
        </label>
        <label
          className="flex items-center gap-1.5"
          title="Parts that neither a camera nor a walkable place sees; 1 does not look for them"
        >
          Unseen ×
          <NumberInput
            className="input input-xs w-14"
            aria-label="Weight of what nobody sees"
            min={0.05}
            max={10}
            value={unseen}
            onChange={setUnseen}
          />
        </label>
        <button
          type="button"
          className="btn btn-primary btn-xs"
          disabled={busy || !kinds.length || !data || same}
          onClick={put}
        >
          {step ? "Update step" : "Put on the tape"}
        </button>
      </div>
      {error && <p className="text-error">{error.message}</p>}
      {!data && !error && <p className="opacity-80">Adding it up …</p>}
      {data?.maps === 0 && <p className="opacity-80">No part of this scene takes baked light.</p>}
      {data && data.maps > 0 && (
        <Told data={data} over={by === "megabytes" && data.bytes > megabytes * 1e6} onTexel={setTexel} />
      )}
    </section>
  );
}

function Told({ data, over, onTexel }: { data: LightReport; over: boolean; onTexel: (m: number) => void }) {
  const { mark } = useView();
  const facts: [string, string][] = [
    ["Lightmaps", count(data.maps)],
    ["All together", mb(data.bytes)],
    ["Texel wanted", metres(data.texelM)],
    ["Finest, coarsest", `${metres(data.finestM)}, ${metres(data.coarsestM)}`],
    ["Filled", share(data.fill)],
    ["Ceilings", count(data.ceilings)],
    ["Unseen, a guess", count(data.unseen)],
  ];
  const most = Math.max(1, ...data.sizes.map((s) => s.bytes));
  return (
    <>
      <dl className="grid grid-cols-7 gap-x-2">
        {facts.map(([label, value]) => (
          <div key={label} className="min-w-0">
            <dt className="truncate text-xs opacity-80" title={label}>
              {label}
            </dt>
            <dd className="truncate font-semibold tabular-nums" title={value}>
              {value}
            </dd>
          </div>
        ))}
      </dl>
      {over && (
        <p className="text-error">
          ✗ Not enough: the smallest maps of {plural(data.maps, "part")} weigh {mb(data.least)}.
        </p>
      )}
      {data.tooSmall > 0 && (
        <p className="text-error">
          ✗ {plural(data.tooSmall, "part has", "parts have")} the largest map there is, and coarser texels
          than wanted.
        </p>
      )}
      {data.guessed > 0 && (
        <p className="text-xs opacity-80">
          {plural(data.guessed, "part has", "parts have")} no map of their own yet: the fill is a guess or
          that of the set as it is.
        </p>
      )}
      {data.bargains.length > 0 && (
        <p className="flex flex-wrap gap-2">
          {data.bargains.map((b) => (
            <button
              key={b.texelM}
              type="button"
              className="btn btn-xs font-normal"
              onClick={() => onTexel(b.texelM * 1.000001)}
            >
              {(b.coarser * 100).toFixed(b.coarser < 0.1 ? 1 : 0)} % coarser ({metres(b.texelM)}) saves{" "}
              {share(b.saved)}: {mb(b.bytes)}
            </button>
          ))}
        </p>
      )}
      <div className="grid grid-cols-2 gap-3">
        <ul className="self-start border rule" aria-label="Maps by size">
          {data.sizes.map((s) => (
            <li
              key={`${s.width} ${s.height}`}
              className="grid grid-cols-[6.5rem_1fr_3rem_4.5rem] items-center gap-2 px-2 tabular-nums"
            >
              <span>
                {s.width} × {s.height}
              </span>
              <span className="h-1.5 rounded-full bg-base-300">
                <span
                  className="block h-full rounded-full bg-secondary"
                  style={{ width: `${(100 * s.bytes) / most}%` }}
                />
              </span>
              <span className="text-right">{count(s.maps)}</span>
              <span className="text-right">{mb(s.bytes)}</span>
            </li>
          ))}
        </ul>
        <ol className="max-h-36 overflow-y-auto border rule" aria-label="Largest maps">
          {data.dearest.map((p) => (
            <li key={`${p.source} ${p.name}`}>
              <button
                type="button"
                className="grid w-full grid-cols-[1fr_5.5rem_3.5rem_4rem] items-center gap-2 px-2 text-left tabular-nums hover:bg-base-200"
                title={`Mark ${p.name} in the view: ${p.areaM2.toFixed(2)} m², ${share(p.fill)} of its map filled, weight ${p.weight}`}
                onClick={() => mark([p.source])}
              >
                <span className="truncate">{p.name}</span>
                <span className="text-right">
                  {p.width} × {p.height}
                </span>
                <span className="text-right">{metres(p.texelM)}</span>
                <span className="text-right">{mb(p.bytes)}</span>
              </button>
            </li>
          ))}
        </ol>
      </div>
    </>
  );
}
