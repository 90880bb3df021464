import { type QueryKey, type UseQueryOptions, useQuery } from "@tanstack/react-query";
import { type ReactNode, useDeferredValue, useState } from "react";
import type { Schemas } from "../../api/client";
import { Faults } from "../../ui/parts";
import { Figures } from "./Figures";

type Rows = Schemas["ChainLinkOut"][];

interface Props<Key extends QueryKey> {
  title: string;
  /** What may be typed: its name, its words, what is usual where it is left empty; `many` where several stand after one another. */
  measures: readonly (readonly [name: string, words: string, usual: string, many?: "many"])[];
  query: (typed: Record<string, string>) => UseQueryOptions<Rows, Error, Rows, Key>;
  children?: ReactNode;
}

/** Figures of a card that hang on measures which may be typed; nothing where the batch has none of them. */
export function Measured<Key extends QueryKey>({ title, measures, query, children }: Props<Key>) {
  const [typed, setTyped] = useState<Record<string, string>>({});
  const { data, error } = useQuery(query(useDeferredValue(typed)));
  if (!data?.length) return error ? <Faults error={error} /> : null;
  return (
    <section className="mt-3" aria-label={title}>
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h2>{title}</h2>
        {measures.map(([name, words, usual, many]) => (
          <label key={name} className="flex items-baseline gap-2">
            <span className="note">{words}</span>
            <input
              className={`input !h-8 ${many ? "!w-72 max-w-full" : "!w-24"}`}
              placeholder={usual}
              value={typed[name] ?? ""}
              maxLength={many ? 400 : 20}
              onChange={(event) => setTyped({ ...typed, [name]: event.target.value })}
            />
          </label>
        ))}
      </div>
      {error ? <Faults error={error} /> : null}
      <Figures rows={data} />
      {data.map((one) =>
        one.note ? (
          <p key={one.key} role="status" className="max-w-prose py-1">
            {one.note}
          </p>
        ) : null,
      )}
      {children}
    </section>
  );
}
