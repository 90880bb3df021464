import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import {
  A_YEAR,
  batchesQuery,
  dayQuery,
  deliveriesQuery,
  lotsQuery,
  membersQuery,
  ordersQuery,
  placesQuery,
  rowsQuery,
} from "../api/queries";
import { useGo } from "../ui/Door";
import { addDays, isoWeek, monday, shortDay } from "../ui/dates";
import { useMay } from "../ui/hooks";
import { Sheet } from "../ui/parts";
import { COMMANDS, type Command } from "./commands";
import { useSpan } from "./span";

type Act = NonNullable<Command["act"]>;
interface Found {
  key: string;
  label: string;
  note: string;
  link?: string;
  act?: Act;
  run?: () => void;
}

interface Props {
  open: boolean;
  onClose: () => void;
  run: (act: Act) => void;
}

const KIND_WORDS: Record<string, string> = {
  method: "method",
  crop: "crop",
  line: "cultivar or line",
  container: "container",
  mix: "mix",
  input: "input",
  standard: "standard",
};

const asFigures = (code: string) => code.replaceAll("o", "0").replaceAll("i", "1");

/** The Monday of a week that was typed, “week 31” or “w31”: the next one of that number in the season. */
function weekAsked(text: string, today: string, season: { start: string; end: string }): string | null {
  const found = /^\s*(?:week|w)\s*(\d{1,2})\s*$/i.exec(text);
  if (!found) return null;
  for (const back of [0, -364])
    for (let n = 0; n < 53; n++) {
      const day = addDays(monday(today), back + n * 7);
      if (isoWeek(day).week === Number(found[1]) && day >= season.start && day < season.end) return day;
    }
  return null;
}

/** Find a batch, a lot, an order by code, crop or customer; a customer, a place, a task, a week, or what can be done from anywhere. */
export function Find({ open, onClose, run }: Props) {
  const [text, setText] = useState("");
  const visit = useGo();
  const batches = useQuery({ ...batchesQuery(A_YEAR), enabled: open });
  const lots = useQuery({ ...lotsQuery, enabled: open });
  const orders = useQuery({ ...ordersQuery(A_YEAR), enabled: open });
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  const hit = (...parts: string[]) => {
    const there = parts.join(" ").toLowerCase();
    // On an old label O and I may stand for 0 and 1, or the other way round.
    return words.every(
      (word) => there.includes(word) || (/\d/.test(word) && asFigures(there).includes(asFigures(word))),
    );
  };
  /** What can be done with a thing is offered to whoever writes the verb first. */
  const asks = (label: string, note: string) =>
    words.length > 1 && label.toLowerCase().startsWith(words[0] ?? " ") && hit(label, note);
  const may = useMay();
  const places = useQuery({ ...placesQuery, enabled: open });
  const rows = useQuery({ ...rowsQuery, enabled: open });
  const { span, setSpan, today, season } = useSpan();
  const tasks = useQuery({ ...dayQuery(today, 21), enabled: open });
  const notes = useQuery({ ...deliveriesQuery(1), enabled: open });
  const people = useQuery({ ...membersQuery, enabled: open && may("accounts.manage") });
  const week = weekAsked(text, today, season);
  const names = [...new Set((orders.data ?? []).map((line) => line.customer))];
  const found: Found[] = words.length
    ? [
        ...COMMANDS.filter((one) => hit(one.words, one.also ?? "") && (!one.may || may(one.may))).map((one) => ({
          key: `c${one.words}`,
          label: one.words,
          note: one.key ? `key ${one.key}` : "",
          ...(one.link ? { link: one.link } : { act: one.act }),
        })),
        ...names
          .filter((name) => hit(name, "customer"))
          .map((name) => ({
            key: `n${name}`,
            label: name,
            note: "customer",
            link: `/orders/customers?name=${encodeURIComponent(name)}`,
          })),
        ...(batches.data ?? [])
          .flatMap((b) => [
            ...(b.state === "planned" && b.way === "plants"
              ? [{ key: `s${b.id}`, label: `Sow ${b.code}`, note: b.crop, link: `/sowing?card=${b.id}` }]
              : []),
            ...(b.state === "sown" && b.way === "plants"
              ? [
                  { key: `k${b.id}`, label: `Count ${b.code}`, note: b.crop, link: `/batches/${b.id}?do=count` },
                  { key: `g${b.id}`, label: `Grade ${b.code}`, note: b.crop, link: `/deliveries?grade=${b.id}` },
                ]
              : []),
          ])
          .filter((one) => asks(one.label, one.note)),
        ...(orders.data ?? [])
          .filter((o) => o.state === "open")
          .map((o) => ({
            key: `h${o.id}`,
            label: `Hand over order ${o.order}`,
            note: `${o.customer}, ${o.crop}`,
            link: `/deliveries?line=${o.id}`,
          }))
          .filter((one) => asks(one.label, one.note)),
        ...(batches.data ?? [])
          .filter((b) => hit(b.code, b.crop, b.cultivar, b.state))
          .map((b) => ({
            key: `b${b.id}`,
            label: `Batch ${b.code}`,
            note: `${b.crop}, ${b.state}`,
            link: `/batches/${b.id}`,
          })),
        ...(lots.data ?? [])
          .filter((l) => hit(l.code, l.crop, l.cultivar, l.supplier))
          .map((l) => ({
            key: `l${l.id}`,
            label: `Lot ${l.code}`,
            note: `${l.crop} ${l.cultivar}, ${l.form}`,
            link: `/lots?lot=${l.id}`,
          })),
        ...(orders.data ?? [])
          .filter((o) => hit(o.order, o.customer, o.crop, o.form))
          .map((o) => ({
            key: `o${o.id}`,
            label: `Order ${o.order}`,
            note: `${o.customer}, ${o.crop}`,
            link: `/orders?line=${o.id}`,
          })),
        ...(places.data?.places ?? [])
          .filter((place) => place.active && hit(place.name, place.kind_words, "place"))
          .map((place) => ({
            key: `p${place.id}`,
            label: place.name,
            note: `${place.kind_words.toLowerCase()}; what stands there`,
            link: `/batches?view=board&place=${place.id}`,
          })),
        ...(week
          ? [
              {
                key: `w${week}`,
                label: `Week ${isoWeek(week).week}, from ${shortDay(week)}`,
                note: "the span that every room shows",
                run: () => setSpan({ start: week, days: span.days }),
              },
            ]
          : []),
        ...(tasks.data?.tasks ?? [])
          .filter((task) => task.state === "todo" && hit(task.words, task.place, "task"))
          .slice(0, 8)
          .map((task) => {
            const day = task.late ? today : task.due_from;
            const where = task.place ? `, ${task.place}` : "";
            return {
              key: `t${task.id}`,
              label: task.words,
              note: `task, ${shortDay(day)}${where}`,
              link: `/diary?day=${day}`,
            };
          }),
        ...(notes.data?.done ?? [])
          .filter((note) => hit(note.code, note.order, note.customer, "delivery note"))
          .slice(0, 8)
          .map((note) => ({
            key: `d${note.id}`,
            label: `Delivery note ${note.code}`,
            note: `${note.customer}, ${shortDay(note.delivered_on)}`,
            link: `/deliveries?note=${note.id}`,
          })),
        ...(people.data ?? [])
          .filter((one) => hit(one.full_name, one.username, "person"))
          .map((one) => ({ key: `u${one.id}`, label: one.full_name, note: `person, ${one.role}`, link: "/house" })),
        ...(rows.data ?? [])
          .filter((row) => !row.retired && hit(row.name, KIND_WORDS[row.kind] ?? row.kind))
          .map((row) => ({
            key: `m${row.kind}${row.slug}`,
            label: row.name,
            note: KIND_WORDS[row.kind] ?? row.kind,
            link: `/methods?kind=${row.kind}&row=${row.slug}`,
          })),
      ].slice(0, 30)
    : [];
  const go = ({ link, act, run: does }: Found) => {
    onClose();
    setText("");
    // Whoever came by keys goes on by keys from the work, not from the top of the page.
    window.setTimeout(() => document.getElementById("work")?.focus({ preventScroll: true }), 60);
    if (does) does();
    else if (link) visit(link);
    else if (act && act !== "find") run(act);
  };
  return (
    <Sheet open={open} onClose={onClose} title="Find">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (found[0]) go(found[0]);
        }}
      >
        <input
          className="input"
          aria-label="Code, crop, customer or place"
          placeholder="Code, crop, customer or place"
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
      </form>
      <ul className="mt-2">
        {found.map((row) => (
          <li key={row.key} className="border-hair border-b py-1">
            <button type="button" className="btn-link" onClick={() => go(row)}>
              {row.label}
            </button>{" "}
            <span className="text-ink3">{row.note}</span>
          </li>
        ))}
        {words.length && !found.length ? <li className="text-ink3">Nothing here has that name.</li> : null}
      </ul>
    </Sheet>
  );
}
