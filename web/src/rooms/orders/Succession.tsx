import { Fragment, useState } from "react";
import { useWatch } from "react-hook-form";
import { api, type Schemas, take } from "../../api/client";
import { useWorking } from "../../shell/working";
import { AskField, AskForm } from "../../ui/AskForm";
import { isoWeek, shortDay } from "../../ui/dates";
import { count, few, grams } from "../../ui/format";
import { Sheet } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";
import { CropAndForm, useRaised } from "./CropAndForm";
import type { Typed } from "./NewOrder";

type Told = Schemas["SuccessionOut"];
const START = { crop_id: "", form: "", quantity: "", first: "", last: "", every_weeks: "1" };

export interface Series {
  row: Partial<Typed>;
  every_weeks: string;
  times: string;
}

/** The same again and again: when to sow for an even harvest, beside what equal intervals would give; nothing is saved. */
export function Succession({
  open,
  onClose,
  onTake,
}: {
  open: boolean;
  onClose: () => void;
  onTake?: ((series: Series) => void) | undefined;
}) {
  const raised = useRaised(open);
  const { show } = useWorking();
  const [told, setTold] = useState<Told>();
  const ask = useAsk({
    start: START,
    again: false,
    onDone: setTold,
    save: (asked: typeof START) =>
      take(
        api.POST("/api/orders/succession", {
          body: { ...asked, crop_id: Number(asked.crop_id), form: raised.formOf(asked) },
        }),
      ),
  });
  const typed = useWatch({ control: ask.form.control }) as typeof START;
  return (
    <Sheet open={open} onClose={onClose} title="A succession" wide ready={!raised.reading}>
      <AskForm ask={ask} button="Work it out" className="grid grid-cols-2 gap-3 lg:grid-cols-3">
        <CropAndForm ask={ask} raised={raised} typed={typed} />
        <AskField ask={ask} name="quantity" label="How many each time" hint="400, 1.2k" needed />
        <AskField ask={ask} name="first" label="First harvest" hint="A day or a week" needed />
        <AskField ask={ask} name="last" label="Last harvest" hint="A day or a week" needed />
        <AskField ask={ask} name="every_weeks" label="Every … weeks" hint="1 is every week" needed />
      </AskForm>
      {told ? (
        <div className="mt-4 grid gap-3 border-ink border-t pt-3" aria-live="polite">
          <p className="text-h2">{told.sentence}</p>
          <Weeks told={told} />
          <div className="flex flex-wrap items-center gap-4">
            {onTake ? (
              <button
                type="button"
                className="btn w-fit"
                onClick={() =>
                  onTake({
                    row: {
                      crop: raised.nameOf(typed),
                      form: raised.formOf(typed),
                      quantity: typed.quantity,
                      due: typed.first,
                    },
                    every_weeks: String(told.every_weeks),
                    times: String(told.sowings.length),
                  })
                }
              >
                Enter {few(told.sowings.length, "order line")}
              </button>
            ) : null}
            <button
              type="button"
              className="btn-link"
              onClick={() => [
                onClose(),
                show({ title: "succession", value: few(told.sowings.length, "sowing"), steps: told.working }, true),
              ]}
            >
              working
            </button>
            <span className="note">Nothing was saved.</span>
          </div>
          <Sowings told={told} />
        </div>
      ) : null}
    </Sheet>
  );
}

const ROWS = [
  ["worked back", "even", "bg-stand"],
  ["equal intervals", "habit", "bg-plan"],
] as const;
const MOST_NAMED = 12; // weeks whose number fits under its bar on a phone

/** Harvest by week: by heat, and of as many sowings at equal intervals; what is over or missing is seen at once. */
function Weeks({ told }: { told: Told }) {
  const most = Math.max(...told.weeks.flatMap((one) => [one.even, one.habit]), 1);
  const every = Math.ceil(told.weeks.length / MOST_NAMED);
  const share = (value: number) => `${(value / most) * 100}%`;
  return (
    <div className="grid grid-cols-[6rem_1fr] items-end gap-x-2 gap-y-3">
      {ROWS.map(([words, key, fill]) => (
        <Fragment key={key}>
          <b className="cond pb-1 text-note">{words}</b>
          <div
            className="relative flex h-14 items-end gap-px border-ink border-b"
            role="img"
            aria-label={`${words}: ${told.weeks.map((one) => `week ${isoWeek(one.monday).week} ${count(one[key])}`).join(", ")}`}
          >
            {told.weeks.map((one) => (
              <span
                key={one.monday}
                className={`flex-1 ${one[key] ? `border border-line border-b-0 ${fill}` : ""}`}
                style={{ height: share(one[key]) }}
              />
            ))}
            <span
              className="absolute inset-x-0 border-ink border-t border-dashed"
              style={{ bottom: share(told.each) }}
            />
          </div>
        </Fragment>
      ))}
      <span className="note">week</span>
      <div className="-mt-2 flex gap-px" aria-hidden="true">
        {told.weeks.map((one, n) => (
          <span key={one.monday} className="note w-0 flex-1 text-center">
            {n % every ? "" : isoWeek(one.monday).week}
          </span>
        ))}
      </div>
    </div>
  );
}

function Sowings({ told }: { told: Told }) {
  return (
    <table className="tbl">
      <thead>
        <tr>
          <th scope="col">Sow</th>
          <th scope="col">Ready</th>
          <th scope="col">For the harvest of</th>
          <th scope="col" className="num">
            Start
          </th>
          <th scope="col">What stands against it</th>
        </tr>
      </thead>
      <tbody>
        {told.sowings.map((one) => (
          <tr key={one.harvest}>
            <td>
              {shortDay(one.sow_on)} <span className="note max-sm:hidden">w {isoWeek(one.sow_on).week}</span>
            </td>
            <td>{shortDay(one.ready_on)}</td>
            <td>
              {shortDay(one.harvest)} <span className="note max-sm:hidden">w {isoWeek(one.harvest).week}</span>
            </td>
            <td className="num">
              {one.trays ? few(one.trays, "tray") : `${count(one.start)} ${told.start_unit}`}
              {one.seed_g ? <span className="note"> {grams(one.seed_g)}</span> : null}
            </td>
            <td>
              {one.late_days ? <b>{few(one.late_days, "day")} too late. </b> : null}
              {one.problems.join(" ")}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
