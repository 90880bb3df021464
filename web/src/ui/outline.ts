import { ApiError } from "../api/client";

/** An outline as a person enters it: corners in metres, one a line, or GeoJSON. The server judges it. */
export const OUTLINE_HINT =
  "Corners in metres east and north of the site, one a line such as “120 45”; or paste a GeoJSON polygon";

export interface Outline {
  outline?: Record<string, unknown>;
  corners_m?: [number, number][];
}

/** What is wrong with it before it is sent. */
export class OutlineFault extends ApiError {
  constructor(message: string) {
    super(422, [{ field: "outline", code: "unreadable", message }], {});
  }
}

export function readOutline(text: string): Outline {
  const trimmed = text.trim();
  if (!trimmed) return {};
  if (trimmed.startsWith("{")) {
    try {
      const read = JSON.parse(trimmed) as { type?: string; features?: Record<string, unknown>[] };
      // A collection with one feature is what most drawing tools save.
      const first = read.type === "FeatureCollection" ? read.features?.[0] : read;
      return { outline: first as Record<string, unknown> };
    } catch {
      throw new OutlineFault("This is no whole GeoJSON. Copy it again from its first to its last brace.");
    }
  }
  const corners = trimmed
    .split("\n")
    .map((line) => line.trim())
    .filter(Boolean)
    .map((line, n) => {
      const parts = line
        .split(/[\s;,]+/)
        .filter(Boolean)
        .map(Number);
      if (parts.length !== 2 || parts.some((part) => !Number.isFinite(part)))
        throw new OutlineFault(`Line ${n + 1}, “${line}”, is not two numbers. Write metres east and north.`);
      return [parts[0] as number, parts[1] as number] as [number, number];
    });
  return { corners_m: corners };
}
