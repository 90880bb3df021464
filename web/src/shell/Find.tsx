import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { batchesQuery, lotsQuery, ordersQuery, placesQuery, rowsQuery } from "../api/queries";
import { useGo } from "../ui/Door";
import { useMay } from "../ui/hooks";
import { Sheet } from "../ui/parts";
import { COMMANDS, type Command } from "./commands";

type Act = NonNullable<Command["act"]>;
interface Found {
  key: string;
  label: string;
  note: string;
  link?: string;
  act?: Act;
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

/** Find a batch, a lot, an order by code, crop or customer; a customer, a room, or what can be done from anywhere. */
export function Find({ open, onClose, run }: Props) {
  const [text, setText] = useState("");
  const visit = useGo();
  const batches = useQuery({ ...batchesQuery, enabled: open });
  const lots = useQuery({ ...lotsQuery, enabled: open });
  const orders = useQuery({ ...ordersQuery, enabled: open });
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  const hit = (...parts: string[]) => {
    const there = parts.join(" ").toLowerCase();
    // On an old label O and I may stand for 0 and 1, or the other way round.
    return words.every(
      (word) => there.includes(word) || (/\d/.test(word) && asFigures(there).includes(asFigures(word))),
    );
  };
  const may = useMay();
  const places = useQuery({ ...placesQuery, enabled: open });
  const rows = useQuery({ ...rowsQuery, enabled: open });
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
  const go = ({ link, act }: Found) => {
    onClose();
    setText("");
    if (link) visit(link);
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
