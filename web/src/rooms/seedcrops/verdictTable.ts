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
  // More was found than the table holds: it rejects, and how far off it is nobody here can say.
  if (!row || found >= row.by_found.length) return null;
  const [low = 0, high = 1, likelyLow = 0, likelyHigh = 0] = row.by_found[found] ?? [];
  return { low, high, likelyLow: Math.max(found, likelyLow), likelyHigh: Math.max(found, likelyHigh) };
}

/** The reject number of a fault; it rises where more was counted than asked. */
export function rejectAt(table: Table, name: string, plants: number): number {
  const risen = (table.beyond[name] ?? []).filter(([from = 0]) => plants >= from).at(-1);
  return risen?.[1] ?? table.reject_at[name] ?? 1;
}

/** As the server reckoned it for what it has: exact, where nothing waits here. */
export function outlookOf(sheet: Sheet, name: string): Outlook | null {
  const fault = sheet.judgement?.faults.find((one) => one.attribute === name);
  if (!fault || !sheet.plants) return null;
  return { low: fault.low, high: fault.high, likelyLow: fault.likely_low, likelyHigh: fault.likely_high };
}

/** Plants that are still to be counted: each area asks for its own. */
export function stillMissing(sheet: Sheet, tally: Tally): number {
  const areas = Array.from({ length: sheet.areas }, (_, n) => String(n + 1));
  const short = areas.map((area) => Math.max(0, sheet.plants_per_area - (tally.byArea[area] ?? 0)));
  return Math.max(
    sheet.sample - tally.plants,
    short.reduce((sum, one) => sum + one, 0),
  );
}

/** Carry on, accept or reject so far, by the numbers of the table. */
export function stateFrom(table: Table, tally: Tally, missing: number): "accept" | "reject" | "continue" {
  const over = Object.keys(table.reject_at).some(
    (name) => (tally.faults[name] ?? 0) >= rejectAt(table, name, tally.plants),
  );
  if (over) return "reject";
  return missing <= 0 ? "accept" : "continue";
}

/** The fault that is nearest to its reject number. */
export function nearest(sheet: Sheet, table: Table, tally: Tally): Sheet["limits"][number] | undefined {
  const closeness = (name: string) => (tally.faults[name] ?? 0) / Math.max(1, rejectAt(table, name, tally.plants));
  return [...sheet.limits].sort((a, b) => closeness(b.attribute) - closeness(a.attribute))[0];
}
