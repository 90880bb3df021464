import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { batchesQuery, lotsQuery, ordersQuery } from "../api/queries";
import { Sheet } from "../ui/parts";

/** Find a batch, a lot, an order by code, crop or customer. */
export function Find({ open, onClose }: { open: boolean; onClose: () => void }) {
  const [text, setText] = useState("");
  const navigate = useNavigate();
  const batches = useQuery({ ...batchesQuery, enabled: open });
  const lots = useQuery({ ...lotsQuery, enabled: open });
  const orders = useQuery({ ...ordersQuery, enabled: open });
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  const hit = (...parts: string[]) => words.every((word) => parts.join(" ").toLowerCase().includes(word));
  const found = words.length
    ? [
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
      ].slice(0, 30)
    : [];
  const go = (link: string) => {
    onClose();
    setText("");
    navigate({ to: link as "/" });
  };
  return (
    <Sheet open={open} onClose={onClose} title="Find">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (found[0]) go(found[0].link);
        }}
      >
        <input
          className="input"
          aria-label="Code, crop or customer"
          placeholder="Code, crop or customer"
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
      </form>
      <ul className="mt-2">
        {found.map((row) => (
          <li key={row.key} className="border-hair border-b py-1">
            <button type="button" className="btn-link" onClick={() => go(row.link)}>
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
