/** Figures as people read them. The server computes; this only rounds and separates. */
const whole = new Intl.NumberFormat("en-GB", { maximumFractionDigits: 0 });
const one = new Intl.NumberFormat("en-GB", { minimumFractionDigits: 1, maximumFractionDigits: 1 });

export function count(value: number | null | undefined): string {
  return value === null || value === undefined ? "" : whole.format(value);
}

export function share(value: number | null | undefined, digits = 0): string {
  if (value === null || value === undefined) return "";
  return `${(value * 100).toFixed(digits)} %`;
}

/** A chance never reads as certain when it is not. */
export function chance(value: number | null | undefined): string {
  if (value === null || value === undefined) return "";
  if (value >= 0.995 && value < 1 - 1e-9) return "over 99 %";
  if (value > 1e-9 && value < 0.005) return "under 1 %";
  return `${Math.round(value * 100)} %`;
}

/** Of a hundred seasons, in how many; never none or all where a few remain. */
export function inHundred(value: number): string {
  if (value >= 0.995 && value < 1 - 1e-9) return "over 99";
  if (value > 1e-9 && value < 0.005) return "under 1";
  return String(Math.round(value * 100));
}

export function grams(value: number | null | undefined): string {
  if (value === null || value === undefined) return "";
  if (value >= 1000) return `${(value / 1000).toFixed(2)} kg`;
  return value >= 1 ? `${one.format(value)} g` : `${value.toPrecision(3)} g`;
}

export function area(value: number): string {
  return value >= 10 || value === 0 ? whole.format(value) : one.format(value);
}

/** Ground: hectares with two decimals. */
export function hectares(m2: number): string {
  return `${(m2 / 10_000).toFixed(2)} ha`;
}

/** Kilos: one decimal below a hundred, whole above. */
export function kilos(value: number | null | undefined): string {
  if (value === null || value === undefined) return "";
  return `${value < 100 && !Number.isInteger(value) ? one.format(value) : whole.format(value)} kg`;
}

/** How a unit is written where it is not simply counted. */
const WRITTEN: Record<string, (value: number) => string> = {
  g: grams,
  kg: kilos,
  "m²": (value) => (value >= 10_000 ? hectares(value) : `${area(value)} m²`),
  L: (value) => `${area(value)} L`,
};
const WEIGHTS = new Map([
  ["g", 1],
  ["kg", 1000],
]); // grams in one
const GROUND = new Set(["m²"]);
const SMALL = new Set(["g"]); // a tenth of it is still weighed
const SEED = new Set(["seeds"]);

/** Whether something is weighed, and not counted. */
export const weighed = (unit: string): boolean => WEIGHTS.has(unit);

/** A weight in grams, as the forms take it; what is counted stays. */
export const inGrams = (value: number, unit: string): number => value * (WEIGHTS.get(unit) ?? 1);

/** Whether something is ground, which says little as a bare number. */
export const isGround = (unit: string): boolean => GROUND.has(unit);

/** A value with its unit, rounded as the unit asks. */
export function quantity(value: number, unit: string): string {
  const written = WRITTEN[unit];
  if (written) return written(value);
  return unit ? `${whole.format(value)} ${unit}` : whole.format(value);
}

/** What is promised: plants by their number, seed by its weight. */
export function promised(value: number, unit: string): string {
  return weighed(unit) || SEED.has(unit) ? quantity(value, unit) : count(value);
}

/** Decimals that a figure of the ladder is shown with. */
export function decimals(value: number, unit: string): number {
  if (!weighed(unit)) return 0;
  return value < 10 ? 2 : value < 100 || SMALL.has(unit) ? 1 : 0;
}

export function hours(minutes: number): string {
  return `${(minutes / 60).toFixed(1)} h`;
}

/** A value of a working's step: shares as per cent, counts whole, the rest to four figures. */
export function stepValue(value: number | string | null | undefined, unit: string): string {
  if (value === null || value === undefined) return "not reached";
  if (typeof value === "string") return value;
  if (unit === "share")
    return value > 0.9995 && value < 1 ? "over 99.9 %" : `${(value * 100).toFixed(value < 0.1 ? 2 : 1)} %`;
  if (Number.isInteger(value) || Math.abs(value) >= 1000) return `${whole.format(value)}${unit ? ` ${unit}` : ""}`;
  return `${Number(value.toPrecision(4))}${unit ? ` ${unit}` : ""}`;
}

/** “1 line”, “3 lines”. */
export function few(value: number, one: string, many = `${one}s`): string {
  return `${count(value)} ${value === 1 ? one : many}`;
}
