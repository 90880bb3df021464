import { useQuery } from "@tanstack/react-query";
import { api, take } from "../../api/client";
import { placesQuery } from "../../api/queries";
import { AskField, AskForm } from "../../ui/AskForm";
import { shortDay } from "../../ui/dates";
import { Sheet } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";
import { PARTS } from "./parts";

/** A task of one's own for a day. Apart from the sheet, so that the first room does not load the form. */
export function AddTask({ open, onClose, day }: { open: boolean; onClose: () => void; day: string }) {
  const { data: places } = useQuery({ ...placesQuery, enabled: open });
  const start = { title: "", place_id: "", part_of_day: "morning" as (typeof PARTS)[number], minutes: "" };
  const ask = useAsk({
    start,
    onDone: onClose,
    save: ({ place_id, ...typed }: typeof start) =>
      take(api.POST("/api/tasks", { body: { ...typed, due: day, place_id: Number(place_id) || null, note: "" } })),
  });
  return (
    <Sheet open={open} onClose={onClose} title={`Add a task for ${shortDay(day)}`}>
      <AskForm ask={ask} button="Add">
        <AskField ask={ask} name="title" label="What is to be done" needed maxLength={200} />
        <AskField
          ask={ask}
          name="place_id"
          label="Where"
          type="select"
          options={[["", "anywhere"], ...(places?.places ?? []).map((one) => [String(one.id), one.name] as const)]}
        />
        <AskField
          ask={ask}
          name="part_of_day"
          label="Part of the day"
          type="select"
          options={PARTS.map((name) => [name, name])}
        />
        <AskField ask={ask} name="minutes" label="Minutes" hint="or “1.5 h”" />
      </AskForm>
    </Sheet>
  );
}
