/** How wide words are in a drawing, in the condensed face at the size that is chosen [px]. */
const known = new Map<string, number>();
let canvas: CanvasRenderingContext2D | null = null;

export function textWidth(words: string, bold = false): number {
  const size = Number.parseFloat(getComputedStyle(document.documentElement).fontSize) * 0.75;
  const key = `${size}${bold}${words}`;
  let width = known.get(key);
  if (width === undefined) {
    canvas ??= document.createElement("canvas").getContext("2d");
    if (!canvas) return words.length * size * 0.45;
    canvas.font = `${bold ? 700 : 500} ${size}px "Sofia Sans Condensed Variable", "Arial Narrow", sans-serif`;
    width = canvas.measureText(words).width;
    if (document.fonts.status === "loaded") known.set(key, width);
  }
  return width;
}
