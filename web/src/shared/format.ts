// Figures as text: thin spaces between thousands, units always shown.
const whole = new Intl.NumberFormat("en", { maximumFractionDigits: 0 });

export const count = (n: number) => whole.format(n).replaceAll(",", " ");

export function bytes(n: number): string {
  if (n < 1024) return `${n} B`;
  const units = ["KiB", "MiB", "GiB"];
  let value = n / 1024;
  let unit = 0;
  while (value >= 1024 && unit < 2) {
    value /= 1024;
    unit++;
  }
  return `${value.toFixed(value < 10 ? 1 : 0)} ${units[unit]}`;
}

export function metres(m: number): string {
  const size = Math.abs(m);
  if (size === 0) return "0 m";
  if (size < 0.0001) return `${(m * 1e6).toFixed(1)} µm`;
  if (size < 0.01) return `${(m * 1000).toFixed(1)} mm`;
  if (size < 1) return `${(m * 100).toFixed(1)} cm`;
  if (size < 1000) return `${m.toFixed(size < 100 ? 2 : 1)} m`;
  return `${size < 1e6 ? (m / 1000).toFixed(2) : count(Math.round(m / 1000))} km`;
}

/** A small figure with so many decimals; large ones keep four digits, since the rest only takes room. */
export function small(value: number, decimals: number): string {
  if (value === 0) return "0";
  const digits = value < 10 ? decimals : Math.min(decimals, Math.max(0, 3 - Math.floor(Math.log10(value))));
  const least = 10 ** -digits;
  return value < least
    ? `< ${least.toFixed(digits)}`
    : value > 1e7
      ? value.toExponential(1)
      : value.toFixed(digits);
}

export const plural = (n: number, one: string, many = `${one}s`) => `${count(n)} ${n === 1 ? one : many}`;

/** A measured figure with as many decimals as say something. */
export const figure = (value: number) =>
  Number.isInteger(value)
    ? count(value)
    : small(value, value < 1 ? 4 : value < 100 ? 2 : 0)
        .replace(/(\.\d*?)0+$/, "$1")
        .replace(/\.$/, "");

const SINGLE: Record<string, string> = { vertices: "vertex", leaves: "leaf", meshes: "mesh" };

/** The unit of a figure, in the singular for one of it. */
export function unitOf(value: number, unit: string): string {
  return value === 1 ? (SINGLE[unit] ?? unit.replace(/s$/, "")) : unit;
}
