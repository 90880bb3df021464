import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { api, type Schemas, take } from "../../api/client";
import { holdsQuery } from "../../api/queries";
import { fullDay } from "../../ui/dates";
import { few, quantity } from "../../ui/format";
import { useMay } from "../../ui/hooks";
import { BatchCode, LotCode, Pennant } from "../../ui/parts";
import { QuickForm } from "../../ui/QuickForm";

type Lot = Schemas["LotDetail"];
type Hold = Schemas["HoldOut"];

/** By what a lot is held, who has what was made of it, and the way out. */
export function Holds({ lot }: { lot: Lot }) {
  const { data } = useQuery({ ...holdsQuery(lot.id), enabled: Boolean(lot.on_hold) });
  return <>{(data ?? []).map((one) => (lot.on_hold ? <OneHold key={one.id} hold={one} lot={lot} /> : null))}</>;
}

function OneHold({ hold, lot }: { hold: Hold; lot: Lot }) {
  const may = useMay();
  const own = hold.lot_id === lot.id;
  return (
    <section className="mt-3 border-rule border-y py-2">
      <Pennant>{own ? "on hold, with everything made of it" : `on hold, made of lot ${hold.lot}`}</Pennant>
      <p className="mt-1">
        {hold.reason}. Since {fullDay(hold.since)}, {hold.by}. Nothing of it leaves, is sown or is released.
      </p>
      <dl className="mt-1">
        <Part words="In stock" empty="no lot of it holds anything">
          {hold.lots
            .filter((one) => one.balance > 0)
            .map((one) => (
              <li key={one.id}>
                <Link to="/lots" search={{ lot: String(one.id) }}>
                  <LotCode code={one.code} />
                </Link>{" "}
                {one.name}, {one.form} <span className="note">{quantity(one.balance, one.unit)}</span>
              </li>
            ))}
        </Part>
        <Part words="Batches" empty="none was begun of it">
          {hold.batches.map((one) => (
            <li key={one.id}>
              <Link to="/batches/$id" params={{ id: String(one.id) }}>
                <BatchCode code={one.code} />
              </Link>{" "}
              {one.crop} <span className="note">{one.only_meant ? "only planned to begin with it" : one.state}</span>
            </li>
          ))}
        </Part>
        <Part words="Handed over" empty="nothing of it left the house">
          {hold.out.map((one) => (
            <li key={`${one.note_id}${one.label}`}>
              {quantity(one.quantity, one.unit)} to <b>{one.customer}</b>, {fullDay(one.on)}{" "}
              <Link to="/deliveries" search={{ note: String(one.note_id) }}>
                note {one.note}
              </Link>{" "}
              <span className="note">label {one.label}</span>
            </li>
          ))}
        </Part>
      </dl>
      {hold.cleared.length ? (
        <p className="note">
          {few(hold.cleared.length, "lot")} cleared of it: {hold.cleared.map((one) => one.reason).join("; ")}
        </p>
      ) : null}
      {may("lots.release") ? (
        <div className="mt-2 flex flex-wrap gap-x-6">
          <Lift hold={hold} lot={null} words={`Lift the hold on lot ${hold.lot}`} />
          {own ? null : <Lift hold={hold} lot={lot} words="Clear only this lot, and what is made of it" />}
        </div>
      ) : (
        <p className="note">A manager or the laboratory lifts it.</p>
      )}
    </section>
  );
}

function Part({ words, empty, children }: { words: string; empty: string; children: React.ReactNode[] }) {
  return (
    <div className="grid grid-cols-[6rem_1fr] gap-x-3 border-hair border-b py-1">
      <dt className="note">{words}</dt>
      <dd>{children.length ? <ul>{children}</ul> : <span className="note">{empty}</span>}</dd>
    </div>
  );
}

function Lift({ hold, lot, words }: { hold: Hold; lot: Lot | null; words: string }) {
  return (
    <details>
      <summary className="btn-link cursor-pointer">{words}</summary>
      <div className="mt-2">
        <QuickForm
          columns={1}
          button={lot ? "Clear it" : "Lift it"}
          fields={[
            {
              name: "reason",
              label: "What shows that it is sound",
              hint: "a result, an inspection, who looked at it",
              needed: true,
            },
          ]}
          save={({ reason = "" }, uuid) =>
            take(
              api.POST("/api/holds/{hold_id}/lift", {
                params: { path: { hold_id: hold.id } },
                body: { reason, client_uuid: uuid, lot_id: lot?.id ?? null },
              }),
            )
          }
        />
      </div>
    </details>
  );
}

/** Stop everything made of a lot at once; whoever sees the trouble may. */
export function HoldIt({ lot }: { lot: Lot }) {
  const may = useMay();
  if (lot.on_hold || !may("lots.hold")) return null;
  return (
    <details className="mt-4">
      <summary className="btn-link cursor-pointer">Hold it and everything made of it</summary>
      <p className="note mt-1">
        Lots, batches and deliveries made of it are listed; nothing of them leaves, is sown or is released until it is
        lifted.
      </p>
      <div className="mt-2">
        <QuickForm
          columns={1}
          button="Hold it"
          fields={[{ name: "reason", label: "Why", hint: "what was found, by whom", needed: true }]}
          save={({ reason = "" }, uuid) =>
            take(
              api.POST("/api/lots/{lot_id}/hold", {
                params: { path: { lot_id: lot.id } },
                body: { reason, client_uuid: uuid },
              }),
            )
          }
        />
      </div>
    </details>
  );
}
