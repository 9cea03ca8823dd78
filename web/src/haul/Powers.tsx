// Power and colour of what gives light, each in its own unit; changed while one looks, since nothing is traced for it.
import type { BakeReport } from "../api/client";
import { count } from "../shared/format";
import { NumberInput } from "../shared/NumberInput";

interface Source {
  power: number;
  colour: string;
}

export interface Mix {
  sky: Source;
  ground: Source;
  sun: Source;
  lamps: Source;
  glow: Source;
}

type Triple = [number, number, number];

const white = (power: number): Source => ({ power, colour: "#ffffff" });

export const DAY: Mix = {
  sky: { power: 2300, colour: "#ddebff" },
  ground: { power: 300, colour: "#fffaf0" },
  sun: white(1),
  lamps: white(1),
  glow: white(1),
};

/** A colour as light, as bright as white is, so that the power alone says how bright it is. */
function light(hex: string): Triple {
  const [r = 1, g = 1, b = 1] = [1, 3, 5].map((at) => {
    const coded = Number.parseInt(hex.slice(at, at + 2), 16) / 255;
    return coded <= 0.04045 ? coded / 12.92 : ((coded + 0.055) / 1.055) ** 2.4;
  });
  const bright = Math.max(0.2126 * r + 0.7152 * g + 0.0722 * b, 1e-3);
  return [r / bright, g / bright, b / bright];
}

/** The part of a request for light that powers and colours are. */
export function asked(mix: Mix) {
  const times = ({ power, colour }: Source) => light(colour).map((part) => part * power) as Triple;
  return {
    sky: times(mix.sky),
    ground: times(mix.ground),
    sun: mix.sun.power,
    sunColor: light(mix.sun.colour),
    lamps: mix.lamps.power,
    lampsColor: light(mix.lamps.colour),
    glow: mix.glow.power,
    glowColor: light(mix.glow.colour),
  };
}

const shown = (value: number) => (value < 10 ? value.toPrecision(2) : count(Math.round(value)));

export function Powers({
  mix,
  report,
  change,
  white,
  setWhite,
}: {
  mix: Mix;
  report: BakeReport | null;
  change: (mix: Mix) => void;
  white: number | null;
  setWhite: (lux: number | null) => void;
}) {
  const rows: { key: keyof Mix; name: string; unit: string; times: number; there: boolean }[] = [
    { key: "sky", name: "Sky", unit: "cd/m²", times: 0, there: true },
    { key: "ground", name: "Ground", unit: "cd/m²", times: 0, there: true },
    { key: "sun", name: "Sun ×", unit: "lx", times: report?.sunLux ?? 0, there: !!report?.sunLux },
    {
      key: "lamps",
      name: "Lamps ×",
      unit: "lm",
      times: report?.lampsLumen ?? 0,
      there: !!report?.lampsLumen,
    },
    { key: "glow", name: "Glow ×", unit: "lm", times: report?.glowLumen ?? 0, there: !!report?.glowLumen },
  ];
  return (
    <fieldset
      className="flex flex-wrap items-center gap-x-4 gap-y-1.5"
      aria-label="Power and colour of light"
    >
      {rows
        .filter((row) => row.there)
        .map(({ key, name, unit, times }) => (
          <span key={key} className="flex items-center gap-1.5">
            <label className={`input input-xs ${times ? "w-28" : "w-40"}`}>
              {name}
              <NumberInput
                aria-label={
                  times
                    ? `${name.slice(0, -2)}, times what the file says`
                    : `${name}, candela per square metre`
                }
                min={0}
                max={1e9}
                value={mix[key].power}
                onChange={(power) => change({ ...mix, [key]: { ...mix[key], power } })}
              />
              {!times && unit}
            </label>
            <input
              type="color"
              className="h-6 w-7 cursor-pointer border rule bg-base-100"
              aria-label={`Colour of ${name.replace(" ×", "")}`}
              value={mix[key].colour}
              onChange={(e) => change({ ...mix, [key]: { ...mix[key], colour: e.target.value } })}
            />
            {times > 0 && (
              <span className="tabular-nums">
                {shown(times * mix[key].power)} {unit}
              </span>
            )}
          </span>
        ))}
      {report && (
        <span className="flex items-center gap-1.5">
          <label className="input input-xs w-40">
            White at
            <NumberInput
              aria-label="White in the picture, lux"
              min={1e-3}
              max={1e9}
              value={white ?? Number(report.white.toPrecision(2))}
              onChange={setWhite}
            />
            lx
          </label>
          <button type="button" className="btn btn-xs" onClick={() => setWhite(null)}>
            Find white
          </button>
        </span>
      )}
    </fieldset>
  );
}
