import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { placesQuery, trapsQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { AskField, AskForm } from "../../ui/AskForm";
import { fullDay, shortDay } from "../../ui/dates";
import { count, few } from "../../ui/format";
import { useMay } from "../../ui/hooks";
import { Faults, Sheet } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";

type Row = Schemas["TrapRowOut"];

/** Insect traps: what they catch by place, against the week before and against what the house acts on. */
export function Traps() {
  const may = useMay()("traps.count");
  const { data, error } = useQuery(trapsQuery);
  const [read, setRead] = useState<Row | "new" | null>(null);
  if (!data?.length && !may) return null;
  return (
    <section className="mt-6" aria-label="Insect traps">
      <div className="flex flex-wrap items-baseline justify-between gap-3">
        <h2>Insect traps</h2>
        {may ? (
          <button type="button" className="btn" onClick={() => setRead("new")}>
            Read a trap
          </button>
        ) : null}
      </div>
      <Faults error={error} />
      {data?.length ? (
        <ul>
          {data.map((row) => (
            <li
              key={`${row.place_id} ${row.colour} ${row.insect}`}
              className="flex flex-wrap items-baseline gap-x-4 border-line border-b py-1"
            >
              <span className="w-56">
                {row.place}, {row.insect} <span className="note">{row.colour}</span>
              </span>
              <Weeks row={row} />
              <span className={`min-w-0 flex-1 basis-64 ${row.over || row.more ? "font-semibold" : ""}`}>
                {row.sentence}
              </span>
              <span className="note">{shortDay(row.counts[0]?.on ?? "")}</span>
              {may ? (
                <button type="button" className="btn-link" onClick={() => setRead(row)}>
                  read
                </button>
              ) : null}
            </li>
          ))}
        </ul>
      ) : (
        <p className="text-ink2">
          Traps hang before plantlets come: yellow for whitefly, aphids, hoppers and moths, blue for thrips. What a trap
          catches in a week is held against the week before, and against what you act on.
        </p>
      )}
      {read ? (
        <Sheet open onClose={() => setRead(null)} title="Read a trap">
          <Read row={read === "new" ? null : read} onDone={() => setRead(null)} />
        </Sheet>
      ) : null}
    </section>
  );
}

/** The last readings as columns, the newest at the right; what the house acts on as a dashed line. */
function Weeks({ row }: { row: Row }) {
  const weeks = [...row.counts].reverse();
  const top = Math.max(0.1, row.act_from ?? 0, ...weeks.map((one) => one.a_week));
  const y = (value: number) => 1 + 22 * (1 - value / top);
  return (
    <svg
      role="img"
      aria-label={`${few(weeks.length, "reading")}: ${weeks.map((one) => one.a_week.toFixed(1)).join(", ")} a trap and week`}
      width={8 * 9 + 2}
      height={25}
    >
      {weeks.map((one, n) => (
        <rect
          key={one.id}
          x={1 + n * 9}
          width={6}
          y={y(one.a_week)}
          height={Math.max(0.5, 23 - y(one.a_week))}
          className="fill-ink2"
        >
          <title>{`${fullDay(one.on)}: ${count(one.found)} on ${few(one.traps, "trap")} in ${few(one.days, "day")}; ${one.by} ${one.note}`}</title>
        </rect>
      ))}
      {row.act_from === null ? null : (
        <line x1={0} x2={74} y1={y(row.act_from)} y2={y(row.act_from)} className="stroke-ink" strokeDasharray="4 3" />
      )}
    </svg>
  );
}

function Read({ row, onDone }: { row: Row | null; onDone: () => void }) {
  const { today } = useSpan();
  const { data: places } = useQuery(placesQuery);
  const newest = row?.counts[0];
  const start = {
    place_id: String(row?.place_id ?? ""),
    colour: row?.colour ?? "yellow",
    insect: row?.insect ?? "",
    found: "",
    traps: String(newest?.traps ?? "1"),
    days: "7",
    act_from: row?.act_from === null || !row ? "" : String(row.act_from),
    on: today,
    note: "",
  };
  const ask = useAsk({
    start,
    again: false,
    onDone,
    save: ({ place_id, colour, ...typed }: typeof start, uuid) =>
      take(
        api.POST("/api/traps", {
          body: {
            ...typed,
            place_id: Number(place_id),
            colour: colour as "yellow" | "blue" | "other",
            client_uuid: uuid,
          },
        }),
      ),
  });
  return (
    <AskForm ask={ask} button="Write it down" big="phone">
      <AskField
        ask={ask}
        name="place_id"
        label="Where it hangs"
        type="select"
        needed
        options={[["", "choose"], ...(places?.places ?? []).map((one) => [String(one.id), one.name] as const)]}
      />
      <AskField
        ask={ask}
        name="colour"
        label="Trap"
        type="select"
        options={[
          ["yellow", "yellow"],
          ["blue", "blue"],
          ["other", "another"],
        ]}
      />
      <AskField ask={ask} name="insect" label="What it caught" hint="whitefly, thrips, aphids" needed maxLength={60} />
      <AskField ask={ask} name="found" label="How many, on all of them" hint="empty: none" digits="whole" />
      <AskField ask={ask} name="traps" label="Traps" digits="whole" />
      <AskField ask={ask} name="days" label="Days they hung" digits="whole" />
      <AskField ask={ask} name="act_from" label="You act from, a trap and week" hint="as your adviser says" digits />
      <AskField ask={ask} name="on" label="Read on" type="date" max={today} />
      <AskField ask={ask} name="note" label="Note" maxLength={300} />
    </AskForm>
  );
}
