import { addDays, type Day, daysBetween, fromNumber, isoWeek, MONTHS, monday, WEEKDAYS, weekday } from "./dates";

/** What a day may be written like; shown where one could not be read. */
export const DAY_HINT = "Write a day such as “6 Jul”, “2027-07-06”, “Tue week 27” or “yesterday”";

const NEAR = { today: 0, tomorrow: 1, yesterday: -1 } as Record<string, number>;

/** A day from what a person typed, day before month; without a year the nearest one to today. Null when it names none. */
export function readDay(text: string, today: Day): Day | null {
  const words = text.trim().toLowerCase().replace(/,/g, " ").replace(/\s+/g, " ");
  const near = NEAR[words];
  if (near !== undefined) return addDays(today, near);
  if (/^[+-]\d{1,3}$/.test(words)) return addDays(today, Number(words));
  const iso = /^(\d{4})-(\d{1,2})-(\d{1,2})$/.exec(words);
  if (iso) return calendarDay(Number(iso[1]), Number(iso[2]), Number(iso[3]));
  const named = WEEKDAYS.findIndex((name) => words.startsWith(name.toLowerCase()));
  const rest = named < 0 ? words : words.replace(/^[a-z]+\.?\s*/, "");
  if (named >= 0 && !rest) return nearestWeekday(named, today);
  // “Tue 6 Jul 2027, week 27” as it is shown: the day says it all.
  return readWeek(rest, named, today) ?? readDayAndMonth(rest.replace(/\s*week \d{1,2}$/, ""), today);
}

function nearestWeekday(index: number, today: Day): Day {
  const ahead = (((index - weekday(today)) % 7) + 7) % 7;
  return addDays(today, ahead > 3 ? ahead - 7 : ahead);
}

/** “week 27”, “w27 2028”, “27/2027”: its Monday, or the weekday that stood before or after. */
function readWeek(text: string, named: number, today: Day): Day | null {
  const found = /^(?:(\d{4})[ -]?)?(?:w|wk|week)\.? ?(\d{1,2})(?: (\d{4}))?(?: ([a-z]{3})[a-z]*)?$/.exec(text);
  if (!found) return null;
  const after = WEEKDAYS.findIndex((name) => name.toLowerCase() === found[4]);
  if (found[4] && after < 0) return null;
  const week = Number(found[2]);
  const given = found[1] ?? found[3];
  const years = given ? [Number(given)] : [-1, 0, 1].map((step) => isoWeek(today).year + step);
  const mondays = years
    .map((year) => addDays(monday(`${year}-01-04`), 7 * (week - 1)))
    .filter((day) => isoWeek(day).week === week);
  const start = closest(mondays, today);
  return start && addDays(start, Math.max(0, named, after));
}

function readDayAndMonth(text: string, today: Day): Day | null {
  const found =
    /^(\d{1,2}) ?[./ -] ?([a-z]{3,9}|\d{1,2})\.?(?: ?[./ -] ?(\d{4}|\d{2}))?$/.exec(text) ??
    /^(\d{1,2})([a-z]{3,9})\.?(?: ?(\d{4}|\d{2}))?$/.exec(text);
  if (!found) return null;
  const [, day = "", name = "", year] = found;
  const month = /^\d/.test(name) ? Number(name) : MONTHS.findIndex((one) => name.slice(0, 3) === one.toLowerCase()) + 1;
  if (year) return calendarDay(year.length === 2 ? 2000 + Number(year) : Number(year), month, Number(day));
  const here = Number(today.slice(0, 4));
  const days = [here - 1, here, here + 1].map((one) => calendarDay(one, month, Number(day)));
  return closest(
    days.filter((one) => one !== null),
    today,
  );
}

function closest(days: Day[], today: Day): Day | null {
  const far = (day: Day) => Math.abs(daysBetween(today, day));
  return [...days].sort((a, b) => far(a) - far(b))[0] ?? null;
}

function calendarDay(year: number, month: number, day: number): Day | null {
  const at = Date.UTC(year, month - 1, day);
  const found = Number.isFinite(at) ? fromNumber(Math.round(at / 86_400_000)) : "";
  const asked = `${String(year).padStart(4, "0")}-${String(month).padStart(2, "0")}-${String(day).padStart(2, "0")}`;
  return found === asked ? found : null;
}
