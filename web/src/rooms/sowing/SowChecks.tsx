import { api, type Schemas, take } from "../../api/client";
import { AskField, AskForm } from "../../ui/AskForm";
import { shortDay } from "../../ui/dates";
import { useMay } from "../../ui/hooks";
import { useAsk } from "../../ui/useAsk";

type Card = Schemas["CardOut"];

/** Whether one seed lies in each cell: what was found while it was sown, and a form for the next look. */
export function SowChecks({ card }: { card: Card }) {
  const may = useMay()("diary.count");
  const row = card.trays === null;
  const start = { looked: "", misses: "", doubles: "", spacings: "", wanted: "", note: "" };
  const ask = useAsk({
    start,
    save: (typed: typeof start, uuid) =>
      take(
        api.POST("/api/batches/{batch_id}/sow-checks", {
          params: { path: { batch_id: String(card.batch_id) } },
          body: { ...typed, client_uuid: uuid },
        }),
      ),
  });
  if (!card.checks.length && (!may || !card.one_by_one)) return null;
  return (
    <section className="mt-3" aria-label="One seed at a time">
      <h2>One seed at a time</h2>
      {card.checks.map((one) => (
        <p key={one.id} className={one.verdict === "stop" ? "border-ink border-l-4 pl-3 font-semibold" : ""}>
          {shortDay(one.on)}: {one.sentence}{" "}
          <span className="note">{[one.by, one.note].filter(Boolean).join(", ")}</span>
        </p>
      ))}
      {may && card.one_by_one ? (
        <details>
          <summary className="btn-link w-fit cursor-pointer list-none">
            {row ? "Look along a row" : "Look at some cells"}
          </summary>
          <AskForm ask={ask} button="Enter what was found" big="phone" className="mt-2 flex flex-wrap items-end gap-3">
            {row ? (
              <>
                <AskField
                  ask={ask}
                  name="spacings"
                  label="From seed to seed, cm"
                  hint="one after another: “10 9 21 4”"
                  className="!w-64"
                  needed
                />
                <AskField ask={ask} name="wanted" label="Meant to lie" hint="cm" digits className="!w-24" needed />
              </>
            ) : (
              <>
                <AskField
                  ask={ask}
                  name="looked"
                  label="Cells looked at"
                  digits="whole"
                  className="phone !w-28"
                  needed
                />
                <AskField ask={ask} name="misses" label="Without a seed" digits="whole" className="phone !w-28" />
                <AskField ask={ask} name="doubles" label="With two and more" digits="whole" className="phone !w-28" />
              </>
            )}
          </AskForm>
        </details>
      ) : null}
    </section>
  );
}
