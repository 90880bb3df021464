import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { applicationsQuery, placesQuery } from "../../api/queries";
import { AskField, AskForm } from "../../ui/AskForm";
import { shortDay } from "../../ui/dates";
import { useAddress, useMay } from "../../ui/hooks";
import { Sheet } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";

type Application = Schemas["ApplicationOut"];

/** What was applied: written down by its label, and what it shuts until when. */
export function Applied() {
  const address = useAddress();
  const navigate = useNavigate();
  const may = useMay();
  const open = address.applied !== undefined;
  const [right, setRight] = useState<Application | "new" | null>(null);
  const close = () => navigate({ to: "/diary", search: (old) => ({ ...old, applied: undefined }) });
  return (
    <>
      <button
        type="button"
        className="btn-link"
        onClick={() => void navigate({ to: "/diary", search: (old) => ({ ...old, applied: "1" }) })}
      >
        What was applied
      </button>
      {open ? (
        <Sheet
          open
          onClose={right ? () => setRight(null) : () => void close()}
          title={right ? (right === "new" ? "Write down what was applied" : "Put it right") : "What was applied"}
          wide
        >
          {right ? (
            <ApplyForm of={right === "new" ? null : right} onDone={() => setRight(null)} />
          ) : (
            <>
              {may("diary.do") ? (
                <button type="button" className="btn mb-3" onClick={() => setRight("new")}>
                  Write down what was applied
                </button>
              ) : null}
              <List onRight={setRight} />
            </>
          )}
        </Sheet>
      ) : null}
    </>
  );
}

const clock = (moment: string) =>
  new Date(moment).toLocaleString("en-GB", { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" });

function List({ onRight }: { onRight: (one: Application) => void }) {
  const { data } = useQuery(applicationsQuery);
  const may = useMay();
  if (!data) return <p role="status">Reading what was applied …</p>;
  if (!data.length) return <p className="text-ink2">Nothing was written down lately.</p>;
  return (
    <ul>
      {data.map((one) => (
        <li key={one.id} className="border-hair border-b py-2">
          <b>
            {one.product}, {one.place}
          </b>{" "}
          {clock(one.applied_at)}
          <span className="block">
            {one.amount}, {one.rate} by its label, against {one.why}
            {one.area ? `, on ${one.area}` : ""}
          </span>
          <span className="block">
            {one.entry_from ? `Entered again from ${clock(one.entry_from)}. ` : ""}
            {one.harvest_from ? `Nothing of what stood there leaves before ${shortDay(one.harvest_from)}` : ""}
            {one.harvest_from && one.stood.length ? `: ${one.stood.join(", ")}.` : ""}
          </span>
          <span className="note block">
            {[
              one.active,
              one.registration,
              one.weather,
              `by ${one.operator}${one.licence ? `, licence ${one.licence}` : ""}`,
              `written down by ${one.by}`,
              one.reason ? `put right: ${one.reason}` : "",
            ]
              .filter(Boolean)
              .join("; ")}
          </span>
          {may("diary.do") ? (
            <button type="button" className="btn-link" onClick={() => onRight(one)}>
              put right
            </button>
          ) : null}
        </li>
      ))}
    </ul>
  );
}

function ApplyForm({ of, onDone }: { of: Application | null; onDone: () => void }) {
  const { data: places } = useQuery(placesQuery);
  const start = {
    place_id: of ? String(of.place_id) : "",
    product: of?.product ?? "",
    active: of?.active ?? "",
    registration: of?.registration ?? "",
    rate: of?.rate ?? "",
    amount: of?.amount ?? "",
    area: of?.area ?? "",
    why: of?.why ?? "",
    weather: of?.weather ?? "",
    operator: of?.operator ?? "",
    licence: of?.licence ?? "",
    entry_hours: "",
    harvest_days: "",
    reason: "",
    never: "",
  };
  const ask = useAsk({
    start,
    onDone,
    again: false,
    save: ({ place_id, never, ...typed }: typeof start, uuid) =>
      take(
        api.POST("/api/applications", {
          body: {
            ...typed,
            place_id: Number(place_id),
            at: null,
            uuid,
            replaces: of?.id ?? null,
            void: never === "yes",
          },
        }),
      ),
  });
  return (
    <AskForm
      ask={ask}
      button={of ? "Put it right" : "Write it down"}
      big="phone self-end"
      className="grid gap-3 lg:grid-cols-2"
    >
      <p className="border-ink border-l-4 pl-3 font-semibold lg:col-span-2">
        Follow the label and your law; licensed work is for licensed people. Aldrip knows no dose: every figure here is
        the label's.
      </p>
      <AskField
        ask={ask}
        name="place_id"
        label="Where"
        type="select"
        className="phone"
        needed
        options={[["", "choose"], ...(places?.places ?? []).map((one) => [String(one.id), one.name] as const)]}
      />
      <AskField ask={ask} name="why" label="Against what" className="phone" needed maxLength={200} />
      <AskField ask={ask} name="product" label="Product" className="phone" needed maxLength={120} />
      <AskField ask={ask} name="active" label="Active substance" className="phone" maxLength={200} />
      <AskField ask={ask} name="rate" label="The label says" hint="“20 ml/L”" className="phone" needed />
      <AskField ask={ask} name="amount" label="Used in all" hint="“0.4 L in 20 L”" className="phone" needed />
      <AskField ask={ask} name="area" label="On how much" hint="m², beds, trays" className="phone" />
      <AskField ask={ask} name="registration" label="Registered as" className="phone" maxLength={80} />
      <AskField
        ask={ask}
        name="entry_hours"
        label="Nobody enters for"
        hint={of ? "hours; empty: as it was, 0: none" : "hours, as the label says; empty where it says nothing"}
        className="phone"
        digits
      />
      <AskField
        ask={ask}
        name="harvest_days"
        label="Nothing leaves for"
        hint={of ? "days; empty: as it was, 0: none" : "days, as the label says; empty where it says nothing"}
        className="phone"
        digits
      />
      <AskField ask={ask} name="operator" label="Who applied it" className="phone" needed maxLength={120} />
      <AskField ask={ask} name="licence" label="Licence" className="phone" maxLength={80} />
      <AskField ask={ask} name="weather" label="Weather" hint="wind, warmth" className="phone" maxLength={120} />
      {of ? (
        <>
          <AskField ask={ask} name="reason" label="Why was it wrong" className="phone" />
          <AskField ask={ask} name="never" label="It never was applied: take it back" type="check" />
        </>
      ) : null}
    </AskForm>
  );
}
