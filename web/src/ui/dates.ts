/** Days as ISO strings: no clock, no zone. A day number counts days since 1 January 1970. */
export type Day = string;

const DAY_MS = 86_400_000;
export const WEEKDAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"] as const;
export const MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"] as const;
const LONG_MONTHS = [
  "January",
  "February",
  "March",
  "April",
  "May",
  "June",
  "July",
  "August",
  "September",
  "October",
  "November",
  "December",
] as const;

/** A season has a few hundred days, and a board asks for each thousands of times. */
const numbers = new Map<Day, number>();

export function dayNumber(day: Day): number {
  const known = numbers.get(day);
  if (known !== undefined) return known;
  const found = Math.floor(Date.parse(`${day.slice(0, 10)}T00:00:00Z`) / DAY_MS);
  if (numbers.size > 20_000) numbers.clear();
  numbers.set(day, found);
  return found;
}

export function fromNumber(value: number): Day {
  return new Date(value * DAY_MS).toISOString().slice(0, 10);
}

export function addDays(day: Day, count: number): Day {
  return fromNumber(dayNumber(day) + count);
}

export function daysBetween(from: Day, to: Day): number {
  return dayNumber(to) - dayNumber(from);
}

/** Monday 0 … Sunday 6. */
export function weekday(day: Day): number {
  return (((dayNumber(day) + 3) % 7) + 7) % 7;
}

export function monday(day: Day): Day {
  return addDays(day, -weekday(day));
}

/** ISO week and the year it belongs to. */
export function isoWeek(day: Day): { week: number; year: number } {
  const thursday = addDays(day, 3 - weekday(day));
  const year = Number(thursday.slice(0, 4));
  return { week: Math.floor(daysBetween(`${year}-01-01`, thursday) / 7) + 1, year };
}

const dom = (day: Day) => Number(day.slice(8, 10));
const mon = (day: Day) => Number(day.slice(5, 7)) - 1;

/** “Tue 6 Jul 2027”. */
export function fullDay(day: Day): string {
  return `${WEEKDAYS[weekday(day)]} ${dom(day)} ${MONTHS[mon(day)]} ${day.slice(0, 4)}`;
}

let thisYear = "";

/** The year that need not be said: that of the day on which the house stands. */
export function sayNoYearOf(today: Day): void {
  thisYear = today.slice(0, 4);
}

/** “Tue 6 Jul”; with its year where that is another one. */
export function shortDay(day: Day | null | undefined): string {
  if (!day) return "";
  const full = fullDay(day);
  return !thisYear || full.endsWith(thisYear) ? full.slice(0, -5) : full;
}

/** “Tuesday 6 July 2027, week 27”. */
export function longDay(day: Day): string {
  const names = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
  return `${names[weekday(day)]} ${dom(day)} ${LONG_MONTHS[mon(day)]} ${day.slice(0, 4)}, week ${isoWeek(day).week}`;
}

export function monthName(day: Day): string {
  return LONG_MONTHS[mon(day)] ?? "";
}

export function weekdayName(index: number): string {
  return WEEKDAYS[index] ?? "";
}

/** A window of days in words: “week 31” where it is one, else “2 to 15 Aug”. */
export function windowWords(from: Day, last: Day): string {
  if (weekday(from) === 0 && daysBetween(from, last) === 6) return `week ${isoWeek(from).week}`;
  if (weekday(from) === 0 && weekday(last) === 6) return `weeks ${isoWeek(from).week} to ${isoWeek(last).week}`;
  return from === last ? shortDay(from) : `${shortDay(from)} to ${shortDay(last)}`;
}
