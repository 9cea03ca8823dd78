// The fields of a destination of one's own.
import { useState } from "react";
import type { Destination } from "../api/client";
import { NumberInput } from "../shared/NumberInput";

const AXES = ["X", "-X", "Y", "-Y", "Z", "-Z"] as const;
const UNITS: [number, string][] = [
  [1, "metre"],
  [0.01, "centimetre"],
  [0.001, "millimetre"],
  [0.0254, "inch"],
  [0.3048, "foot"],
];

type Props = { destination: Destination; busy: boolean; onKeep: (d: Destination) => void };

/** Sizes that lightmaps come in. */
export const MAPS = {
  square: "squares of powers of 2",
  powers: "powers of 2 each way",
  blocks: "multiples of 4",
} as const;

export function DestinationForm({ destination, busy, onKeep }: Props) {
  const [d, setD] = useState(destination);
  const world = (change: Partial<Destination["world"]>) => setD({ ...d, world: { ...d.world, ...change } });
  const clash = d.world.up.slice(-1) === d.world.forward.slice(-1);
  return (
    <form
      className="mt-2 grid grid-cols-4 gap-x-4 gap-y-2"
      onSubmit={(e) => {
        e.preventDefault();
        onKeep(d);
      }}
    >
      <Field label="Title" wide>
        <input
          className="input input-sm w-full"
          value={d.title}
          maxLength={120}
          required
          onChange={(e) => setD({ ...d, title: e.target.value })}
        />
      </Field>
      <Field label="One unit is">
        <select
          className="select select-sm w-full"
          value={d.world.metresPerUnit}
          onChange={(e) => world({ metresPerUnit: Number(e.target.value) })}
        >
          {!UNITS.some(([v]) => v === d.world.metresPerUnit) && (
            <option value={d.world.metresPerUnit}>{d.world.metresPerUnit} m</option>
          )}
          {UNITS.map(([v, word]) => (
            <option key={v} value={v}>
              {word}
            </option>
          ))}
        </select>
      </Field>
      <Field label="Handedness">
        <select
          className="select select-sm w-full"
          value={d.world.handedness}
          onChange={(e) => world({ handedness: e.target.value as "left" | "right" })}
        >
          <option>right</option>
          <option>left</option>
        </select>
      </Field>
      <Field label="Up">
        <Axis value={d.world.up} onChange={(up) => world({ up })} />
      </Field>
      <Field label="Forward">
        <Axis value={d.world.forward} onChange={(forward) => world({ forward })} />
      </Field>
      <Field label="Largest texture, px">
        <NumberInput
          className="input input-sm w-full"
          min={16}
          whole
          value={d.maxTexture ?? 8192}
          onChange={(maxTexture) => setD({ ...d, maxTexture })}
        />
      </Field>
      <Field label="Indices">
        <select
          className="select select-sm w-full"
          value={d.indexBits ?? 32}
          onChange={(e) => setD({ ...d, indexBits: Number(e.target.value) as 16 | 32 })}
        >
          <option value={32}>32 bits</option>
          <option value={16}>16 bits</option>
        </select>
      </Field>
      <Field label="Lightmap channel">
        <NumberInput
          className="input input-sm w-full"
          min={0}
          max={7}
          whole
          value={d.lightmapChannel ?? 1}
          onChange={(lightmapChannel) => setD({ ...d, lightmapChannel })}
        />
      </Field>
      <Field label="Lightmap sizes">
        <select
          className="select select-sm w-full"
          value={d.lightmapMaps ?? "powers"}
          onChange={(e) => setD({ ...d, lightmapMaps: e.target.value as keyof typeof MAPS })}
        >
          {Object.entries(MAPS).map(([value, text]) => (
            <option key={value} value={value}>
              {text}
            </option>
          ))}
        </select>
      </Field>
      <Field label="One allowed character of names">
        <input
          className="input input-sm w-full font-mono"
          value={d.namePattern ?? ""}
          onChange={(e) => setD({ ...d, namePattern: e.target.value })}
        />
      </Field>
      <Field label="Longest name">
        <NumberInput
          className="input input-sm w-full"
          min={8}
          max={1024}
          whole
          value={d.nameLength ?? 63}
          onChange={(nameLength) => setD({ ...d, nameLength })}
        />
      </Field>
      <Field label="Grid cell, m (0: inferred)">
        <NumberInput
          className="input input-sm w-full"
          min={0}
          max={1000}
          value={d.gridCell ?? 0}
          onChange={(gridCell) => setD({ ...d, gridCell })}
        />
      </Field>
      <label className="flex items-center gap-2 self-end">
        <input
          type="checkbox"
          className="checkbox checkbox-sm"
          checked={d.negativeScale}
          onChange={(e) => setD({ ...d, negativeScale: e.target.checked })}
        />
        takes negative scale
      </label>
      <label className="flex items-center gap-2 self-end">
        <input
          type="checkbox"
          className="checkbox checkbox-sm"
          checked={!!d.gpuInstancing}
          onChange={(e) => setD({ ...d, gpuInstancing: e.target.checked })}
        />
        GPU instancing
      </label>
      {d.gpuInstancing && (
        <Field label="Lists from copies (0: scatters only)">
          <NumberInput
            className="input input-sm w-full"
            min={0}
            max={1000000}
            whole
            value={d.instancingFrom ?? 32}
            onChange={(instancingFrom) => setD({ ...d, instancingFrom })}
          />
        </Field>
      )}
      <div className="col-span-4 flex items-center gap-3">
        {clash && (
          <span className="text-error">✗ Up and forward share an axis; choose two different ones.</span>
        )}
        <button type="submit" className="btn btn-primary btn-sm ml-auto" disabled={busy || clash}>
          Save
        </button>
      </div>
    </form>
  );
}

function Field({ label, wide, children }: { label: string; wide?: boolean; children: React.ReactNode }) {
  return (
    // biome-ignore lint/a11y/noLabelWithoutControl: the control is the child
    <label className={`flex flex-col ${wide ? "col-span-2" : ""}`}>
      <span className="text-xs opacity-80">{label}</span>
      {children}
    </label>
  );
}

function Axis({
  value,
  onChange,
}: {
  value: Destination["world"]["up"];
  onChange: (a: Destination["world"]["up"]) => void;
}) {
  return (
    <select
      className="select select-sm w-full"
      value={value}
      onChange={(e) => onChange(e.target.value as Destination["world"]["up"])}
    >
      {AXES.map((a) => (
        <option key={a}>{a}</option>
      ))}
    </select>
  );
}
