import type { Schemas } from "../../api/client";

type Sheet = Schemas["InspectionOut"];
type Table = Schemas["DecisionTableOut"];

export interface Tally {
  plants: number;
  faults: Record<string, number>;
  byArea: Record<string, number>;
}

export interface Counted {
  area: number;
  plants: number;
  faults: Record<string, number>;
}

/** What the server has, and on top what waits here. A fault is a plant looked at, unless the sheet says otherwise. */
export function tallyWith(sheet: Sheet, entries: Counted[]): Tally {
  const beside = new Set(sheet.limits.filter((limit) => !limit.is_plant).map((limit) => limit.attribute));
  const tally: Tally = { plants: sheet.plants, faults: { ...sheet.faults }, byArea: { ...sheet.by_area } };
  for (const entry of entries) {
    let whole = entry.plants;
    for (const [name, many] of Object.entries(entry.faults)) {
      tally.faults[name] = (tally.faults[name] ?? 0) + many;
      if (!beside.has(name)) whole += many;
    }
    tally.plants += whole;
    tally.byArea[entry.area] = (tally.byArea[entry.area] ?? 0) + whole;
  }
  return tally;
}

export interface Outlook {
  low: number;
  high: number;
  likelyLow: number;
  likelyHigh: number;
}

/** Looked up in the server's table, never reckoned here: the last step at or below what is counted. */
export function outlookFrom(table: Table, plants: number, found: number): Outlook | null {
  const row = [...table.rows].reverse().find((one) => one.plants <= plants);
  if (!row) return null;
  const [low = 0, high = 1, likelyLow = 0, likelyHigh = 0] =
    row.by_found[Math.min(found, row.by_found.length - 1)] ?? [];
  return { low, high, likelyLow: Math.max(found, likelyLow), likelyHigh: Math.max(found, likelyHigh) };
}

/** The reject number of a fault; it rises where more was counted than asked. */
export function rejectAt(table: Table, name: string, plants: number): number {
  const risen = (table.beyond[name] ?? []).filter(([from = 0]) => plants >= from).at(-1);
  return risen?.[1] ?? table.reject_at[name] ?? 1;
}

/** Carry on, accept or reject so far, by the numbers of the table. */
export function stateFrom(table: Table, tally: Tally): "accept" | "reject" | "continue" {
  const over = Object.keys(table.reject_at).some(
    (name) => (tally.faults[name] ?? 0) >= rejectAt(table, name, tally.plants),
  );
  if (over) return "reject";
  return tally.plants >= table.sample ? "accept" : "continue";
}

/** The fault that is nearest to its reject number. */
export function nearest(sheet: Sheet, table: Table, tally: Tally): Sheet["limits"][number] | undefined {
  const closeness = (name: string) => (tally.faults[name] ?? 0) / Math.max(1, rejectAt(table, name, tally.plants));
  return [...sheet.limits].sort((a, b) => closeness(b.attribute) - closeness(a.attribute))[0];
}
