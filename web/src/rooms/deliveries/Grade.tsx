import { Link } from "@tanstack/react-router";
import { useWatch } from "react-hook-form";
import { api, type Schemas, take } from "../../api/client";
import { useSpan } from "../../shell/span";
import { AskField, AskForm } from "../../ui/AskForm";
import { count, share } from "../../ui/format";
import { Sheet } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";

/** The way to a batch's grading; the sheet is opened by the address. */
export function GradeLink({ batch }: { batch: Pick<Schemas["ToGradeOut"], "batch_id" | "code"> }) {
  return (
    <Link to="/deliveries" search={(old) => ({ ...old, grade: String(batch.batch_id) })}>
      grade
      <span className="sr-only"> {batch.code}</span>
    </Link>
  );
}

/** Grade a batch against its standard: good ones become a lot, the rest is counted by cause. */
export function Grade({
  batch,
  line,
  onClose,
}: {
  batch: Schemas["ToGradeOut"];
  line: Pick<Schemas["DueOut"], "crop" | "standard"> & { order?: string };
  onClose: () => void;
}) {
  const { today } = useSpan();
  const start = { good: "", rest: "", out: batch.causes.map((cause) => ({ cause, count: "" })) };
  const ask = useAsk({
    start,
    onDone: onClose,
    save: ({ rest, ...typed }: typeof start, client_uuid) =>
      take(
        api.POST("/api/batches/{batch_id}/graded", {
          params: { path: { batch_id: batch.batch_id } },
          body: { ...typed, rest: rest === "yes", seconds: [], on: today, client_uuid, version: batch.version },
        }),
      ),
  });
  const typed = useWatch({ control: ask.form.control }) as typeof start;
  const good = Number(typed.good);
  const rejected = typed.out.reduce((sum, one) => sum + Number(one.count || 0), 0);
  return (
    <Sheet open onClose={onClose} title={`Grade ${batch.code}`}>
      <AskForm ask={ask} button="Graded" big="phone">
        <p>
          {line.crop}
          {line.order ? ` for order ${line.order}` : ""}
          {line.standard ? `, against the ${line.standard.toLowerCase()}` : ""}. Forecast {count(batch.expected)}.
        </p>
        <AskField ask={ask} name="good" label="Good ones" className="phone text-h2" digits="whole" needed />
        <fieldset className="grid grid-cols-2 gap-2">
          <legend className="font-medium">Graded out, by cause</legend>
          {batch.causes.map((cause, at) => (
            <AskField key={cause} ask={ask} name={`out.${at}.count`} label={cause} digits="whole" />
          ))}
        </fieldset>
        <AskField ask={ask} name="rest" type="check" label="This is a part of it; the rest stands on" />
        <p aria-live="polite">
          {good > 0 && rejected >= 0 ? (
            <>
              {count(good)} good, {count(rejected)} out: <b>{share(good / (good + rejected), 1)}</b> kept
            </>
          ) : null}
        </p>
      </AskForm>
    </Sheet>
  );
}
