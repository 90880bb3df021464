import { useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { useCallback, useEffect, useState } from "react";
import { ApiError, api, entryId, type Schemas, take } from "../../api/client";
import { inspectionQuery } from "../../api/queries";
import { usePrefs } from "../../shell/prefs";
import { shortDay } from "../../ui/dates";
import { count } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { Faults } from "../../ui/parts";
import { QuickForm } from "../../ui/QuickForm";
import { CountDrawing, FieldRoute } from "./CountDrawing";
import { AddNote, InspectionNotes } from "./InspectionNotes";
import { Rules, Sign } from "./InspectionSign";
import { keep, keepSheet, keptSheet, send, type Waiting, waiting } from "./outbox";
import { nearest, outlookFrom, outlookOf, rejectAt, stateFrom, stillMissing, tallyWith } from "./verdictTable";

type Visit = Schemas["InspectionOut"];

/** The sheet from the server, or as it was kept here; entries wait here until they are there. */
function useSheet(id: number) {
  const client = useQueryClient();
  const [sheet, setSheet] = useState<Visit | null>(null);
  const [rows, setRows] = useState<Waiting[]>([]);
  const [since, setSince] = useState<string | null>(null);
  const [said, setSaid] = useState("");
  const [error, setError] = useState<unknown>(null);
  const take_ = useCallback(
    async (fresh: Visit) => {
      setSheet(fresh);
      client.setQueryData(inspectionQuery(id).queryKey, fresh);
      await keepSheet(fresh);
    },
    [client, id],
  );
  const push = useCallback(async () => {
    const sent = await send(id);
    if (sent.state === "sent") {
      setSince(null);
      setSaid("");
      // What arrived counts on the server now; both change in one stroke, so that nothing is counted twice.
      const left = await waiting(id);
      if (sent.sheet) {
        setSheet(sent.sheet);
        client.setQueryData(inspectionQuery(id).queryKey, sent.sheet);
      }
      setRows(left);
      return;
    }
    setRows(await waiting(id));
    if (sent.state === "no signal") setSince((old) => old ?? new Date().toTimeString().slice(0, 5));
    if (sent.state === "sign in")
      setSaid("You are signed out, or may not count. What you entered is kept here; sign in again and it is sent.");
    if (sent.state === "closed") setSaid(sent.message);
  }, [client, id]);
  useEffect(() => {
    let alive = true;
    (async () => {
      try {
        const fresh = await take(
          api.GET("/api/inspections/{inspection_id}", { params: { path: { inspection_id: id } } }),
        );
        if (alive) await take_(fresh);
      } catch (fault) {
        const kept = await keptSheet(id);
        if (!alive) return;
        if (kept && fault instanceof ApiError && (fault.status === 0 || fault.status >= 500)) {
          setSheet(kept);
          setSince(new Date().toTimeString().slice(0, 5));
        } else setError(fault);
      }
      if (alive) await push();
    })();
    const timer = window.setInterval(() => void push(), 4000);
    const back = () => void push();
    window.addEventListener("online", back);
    return () => {
      alive = false;
      window.clearInterval(timer);
      window.removeEventListener("online", back);
    };
  }, [id, push, take_]);
  const enter = async (
    entry: Omit<Schemas["EntryIn"], "client_uuid" | "note" | "photo"> & { note?: string; photo?: string },
    undoes?: Waiting["undoes"],
  ) => {
    const row: Waiting = {
      inspection: id,
      entry: { note: "", photo: "", ...entry, client_uuid: entryId(), at: new Date().toISOString() },
      ...(undoes ? { undoes } : {}),
    };
    await keep(row);
    setRows((old) => [...old, row]);
    void push();
    return row.entry.client_uuid;
  };
  return { sheet, rows, since, said, error, enter, take: take_ };
}

export function Inspection() {
  const { id = "" } = useParams({ strict: false });
  const { sheet, rows, since, said, error, enter, take: fresh } = useSheet(Number(id));
  const { setSun, sun } = usePrefs();
  if (error)
    return (
      <div className="p-4">
        <Faults error={error} />
      </div>
    );
  if (!sheet) return <p className="p-4 text-ink3">Fetching …</p>;
  return (
    <div className="fixed inset-0 z-30 overflow-y-auto bg-paper lg:static lg:z-0 lg:overflow-visible">
      <Bar since={since} waiting={rows.filter((row) => !row.refused).length} back={sheet.block_id} />
      <div className="mx-auto max-w-[420px] px-4 pb-10 lg:mx-0">
        <Head sheet={sheet} />
        {said ? (
          <p role="alert" className="fault my-2 border-2 border-ink p-2">
            {said}
          </p>
        ) : null}
        <Refused rows={rows} />
        {sheet.state === "planned" ? (
          <Begin sheet={sheet} onBegun={fresh} />
        ) : sheet.state === "signed" ? (
          <Signed sheet={sheet} left={rows.length} />
        ) : (
          <Counting sheet={sheet} rows={rows} enter={enter} onFresh={fresh} offline={since !== null} />
        )}
        <InspectionNotes sheet={sheet} />
        <p className="mt-4 flex justify-between">
          <button type="button" className="btn-link min-h-11" onClick={() => setSun(!sun)}>
            Sun mode {sun ? "on" : "off"}
          </button>
        </p>
      </div>
    </div>
  );
}

function Bar({ since, waiting: kept, back }: { since: string | null; waiting: number; back: number }) {
  return (
    <div
      className={`sticky top-0 z-10 flex min-h-8 items-center justify-between px-4 font-bold ${since ? "bg-ink text-panel" : "bg-frame"}`}
    >
      <span role="status">
        {since ? `No signal since ${since}` : kept ? "Sending …" : "Everything has arrived"}
        {kept ? (
          <span className="ml-4">
            {kept} {kept === 1 ? "entry" : "entries"} kept here
          </span>
        ) : null}
      </span>
      <Link to="/seedcrops/$id/harvest" params={{ id: String(back) }} className="leading-8">
        Leave
      </Link>
    </div>
  );
}

function Head({ sheet }: { sheet: Visit }) {
  return (
    <div className="flex items-start justify-between gap-3 py-2">
      <div className="min-w-0">
        <h1>
          {sheet.field}, {sheet.crop.toLowerCase()}
        </h1>
        <p>
          {sheet.words}, visit {sheet.number}
        </p>
        {sheet.follows ? (
          <p className="font-medium">
            First, {shortDay(sheet.follows.signed_at)}: {sheet.follows.sentence}
          </p>
        ) : (
          <p className="note">
            {sheet.cultivar} {sheet.batch}
          </p>
        )}
      </div>
    </div>
  );
}

function Refused({ rows }: { rows: Waiting[] }) {
  const refused = rows.filter((row) => row.refused);
  if (!refused.length) return null;
  return (
    <div role="alert" className="my-2 border-2 border-ink p-2">
      <p className="fault">
        {refused.length} {refused.length === 1 ? "entry was" : "entries were"} not taken; they stay here.
      </p>
      <ul>
        {refused.slice(0, 6).map((row) => (
          <li key={row.entry.client_uuid}>
            Area {row.entry.area}, {row.entry.at.slice(11, 16)}: {row.entry.plants} plants
            {Object.entries(row.entry.faults ?? {}).map(([k, v]) => `, ${v} ${k}`)}. {row.refused}
          </li>
        ))}
      </ul>
    </div>
  );
}

function Begin({ sheet, onBegun }: { sheet: Visit; onBegun: (fresh: Visit) => Promise<void> }) {
  const may = useMay();
  const begin = useSave(
    () => take(api.POST("/api/inspections/{inspection_id}/begin", { params: { path: { inspection_id: sheet.id } } })),
    (fresh) => void onBegun(fresh),
  );
  return (
    <div className="grid gap-3 py-2">
      <p>
        Planned for <b>{shortDay(sheet.planned_on)}</b>
        {sheet.shedding_from ? `; pollen must be reckoned with from ${shortDay(sheet.shedding_from)}` : ""}. Beginning
        fixes limits, areas and their places; then the sheet works without a signal.
      </p>
      <Faults error={begin.error} />
      {may("seedcrops.count") ? (
        <button
          type="button"
          className="btn btn-decide min-h-14 text-h2"
          onClick={() => begin.mutate(undefined)}
          disabled={begin.isPending}
        >
          Begin the count
        </button>
      ) : (
        <p className="note">You may look, not count.</p>
      )}
      {may("seedcrops.sign") ? (
        <details>
          <summary className="btn-link min-h-11 cursor-pointer">This visit is dispensed with</summary>
          <p className="note">Signed by you, and told on every declaration of this seed. It covers this visit alone.</p>
          <div className="mt-2">
            <QuickForm
              columns={1}
              button="Sign the dispensation"
              fields={[
                {
                  name: "given_by",
                  label: "Given by",
                  hint: "inspector or authority, number of the letter",
                  needed: true,
                },
                { name: "reason", label: "On what grounds", needed: true },
              ]}
              save={async ({ given_by = "", reason = "" }) =>
                onBegun(
                  await take(
                    api.POST("/api/inspections/{inspection_id}/dispense", {
                      params: { path: { inspection_id: sheet.id } },
                      body: { given_by, reason },
                    }),
                  ),
                )
              }
            />
          </div>
        </details>
      ) : null}
    </div>
  );
}

function Signed({ sheet, left }: { sheet: Visit; left: number }) {
  const words: Record<string, string> = {
    accept: "Accepted",
    rogue: "To be rogued and inspected again",
    downgrade: "Downgraded",
    reject: "Rejected",
    part: "A part rejected, the rest to be inspected again",
    dispense: "Dispensed with",
  };
  return (
    <div className="grid gap-2 py-2">
      <p className="text-h1 font-bold">{words[sheet.decision]}</p>
      <p>{sheet.sentence}</p>
      <p className="note">
        Signed by {sheet.signed_by}, {sheet.signed_role}, {shortDay(sheet.signed_at)}. Standard: {sheet.standard}.
      </p>
      {left ? (
        <p className="fault">{left} entries were made after signing; they are kept here and count for nothing.</p>
      ) : null}
    </div>
  );
}

const STATE = { accept: "Within the limits", reject: "Reject", continue: "Carry on" } as const;

function Counting({
  sheet,
  rows,
  enter,
  onFresh,
  offline,
}: {
  sheet: Visit;
  rows: Waiting[];
  enter: ReturnType<typeof useSheet>["enter"];
  onFresh: (fresh: Visit) => Promise<void>;
  offline: boolean;
}) {
  const may = useMay();
  const table = sheet.table;
  const alive = rows.filter((row) => !row.refused);
  const here_ = new Set(alive.map((row) => row.entry.client_uuid));
  const takenBack = new Set(alive.map((row) => row.entry.takes_back).filter(Boolean));
  const counted = alive
    .filter((row) => !takenBack.has(row.entry.client_uuid))
    .flatMap((row) => {
      if (!row.entry.takes_back)
        return [{ area: row.entry.area, plants: row.entry.plants, faults: row.entry.faults as Record<string, number> }];
      // What it takes back is on the server already, so it is taken off here until the server has done so.
      if (here_.has(row.entry.takes_back) || !row.undoes) return [];
      const faults = Object.fromEntries(Object.entries(row.undoes.faults).map(([name, many]) => [name, -many]));
      return [{ area: row.entry.area, plants: -row.undoes.plants, faults }];
    });
  const tally = tallyWith(sheet, counted);
  const done = (area: number) => (tally.byArea[area] ?? 0) >= sheet.plants_per_area;
  const firstOpen = Array.from({ length: sheet.areas }, (_, n) => n + 1).find((area) => !done(area)) ?? sheet.areas;
  const [chosen, setChosen] = useState<number | null>(null);
  const area = chosen ?? firstOpen;
  const [log, setLog] = useState<
    { uuid: string; words: string; plants: number; faults: Record<string, number>; area: number }[]
  >([]);
  const [signing, setSigning] = useState(false);
  if (!table) return null;
  const missing = stillMissing(sheet, tally);
  const state = stateFrom(table, tally, missing);
  const main = nearest(sheet, table, tally);
  const found = main ? (tally.faults[main.attribute] ?? 0) : 0;
  const exact = tally.plants === sheet.plants && main !== undefined && found === (sheet.faults[main.attribute] ?? 0);
  const outlook = !main ? null : exact ? outlookOf(sheet, main.attribute) : outlookFrom(table, tally.plants, found);
  const here = tally.byArea[area] ?? 0;
  const left = sheet.plants_per_area - here;
  const tap = async (plants: number, faults: Record<string, number>, words: string) => {
    setChosen(area);
    const uuid = await enter({ area, plants, faults });
    setLog((old) =>
      [...old, { uuid, words: `${words}, ${new Date().toTimeString().slice(0, 5)}`, plants, faults, area }].slice(-40),
    );
  };
  // What is on the server already is taken back from here as well: after a reload, and from another phone.
  const before = sheet.last.filter((one) => !takenBack.has(one.uuid) && !log.some((own) => own.uuid === one.uuid));
  const newest = log.at(-1) ?? before[0];
  const takeBack = async (last: (typeof log)[number] | Visit["last"][number] | undefined) => {
    if (!last) return;
    setLog((old) => old.filter((one) => one.uuid !== last.uuid));
    await enter(
      { area: last.area, plants: 0, faults: {}, takes_back: last.uuid },
      { plants: last.plants, faults: last.faults },
    );
  };
  const big = sheet.limits.filter((limit) => limit.is_plant)[0];
  const small = sheet.limits.filter((limit) => limit !== big);
  const next = area < sheet.areas ? area + 1 : null;
  return (
    <div>
      <div className="flex items-start justify-between gap-3">
        <div>
          <p>
            Area <b>{area}</b> of {sheet.areas}
          </p>
          <p className="mt-1 text-[1.75rem] leading-8 font-bold" role="status">
            {state === "continue" ? <span aria-hidden="true">» </span> : null}
            {STATE[state]}
          </p>
        </div>
        <FieldRoute sheet={sheet} area={area} done={done} onChoose={setChosen} />
      </div>
      {main ? (
        <p>
          <b>
            {count(found)} {main.words} in {count(tally.plants)} plants.
          </b>{" "}
          Limit {(main.limit * 100).toFixed(2)} %
          {tally.plants ? `, so far ${((found / tally.plants) * 100).toFixed(2)} %` : ""}
          {outlook
            ? ` (${exact ? "" : "about "}${(outlook.low * 100).toFixed(2)} to ${(outlook.high * 100).toFixed(2)})`
            : ""}
          .{state === "continue" ? ` ${count(missing)} more decide.` : ""}
        </p>
      ) : null}
      {main ? (
        <CountDrawing
          sheet={sheet}
          plants={tally.plants}
          found={found}
          rejectAt={rejectAt(table, main.attribute, tally.plants)}
          outlook={outlook}
          words={main.words}
        />
      ) : null}
      {sheet.twice.map((said) => (
        <p key={said} className="fault" role="alert">
          {said} If these are the same plants, take one of the two back.
        </p>
      ))}
      {may("seedcrops.count") ? (
        <>
          <div className="grid grid-cols-2 gap-2">
            <button
              type="button"
              className="tap min-h-[128px] border-[3px] border-ink bg-panel p-3 text-left"
              onClick={() => void tap(10, {}, "+10 plants")}
            >
              <span className="block text-[2.5rem] leading-10 font-bold">+10</span>
              <b>plants, true</b>
              <span className="block font-medium">
                {count(here)} of {count(sheet.plants_per_area)} here
              </span>
            </button>
            {big ? (
              <button
                type="button"
                className="tap min-h-[128px] bg-ink p-3 text-left text-panel"
                onClick={() => void tap(0, { [big.attribute]: 1 }, `+1 ${big.words}`)}
              >
                <span className="block text-[2.5rem] leading-10 font-bold">+1</span>
                <b>{big.words}</b>
                <span className="block font-medium">{count(tally.faults[big.attribute] ?? 0)} in all</span>
              </button>
            ) : null}
          </div>
          <div className="mt-2 grid grid-cols-3 gap-2">
            {small.map((limit) => (
              <button
                key={limit.attribute}
                type="button"
                className="tap min-h-[64px] border-2 border-ink bg-panel p-2 text-left"
                onClick={() => void tap(0, { [limit.attribute]: 1 }, `+1 ${limit.words}`)}
              >
                <b className="block">{limit.words}</b>
                <span className="text-h1 font-bold">{count(tally.faults[limit.attribute] ?? 0)}</span>
                <span className="note"> reject at {rejectAt(table, limit.attribute, tally.plants)}</span>
              </button>
            ))}
          </div>
          <div className="mt-2 grid grid-cols-2 gap-2">
            <button
              type="button"
              className="min-h-[56px] border-2 border-ink bg-panel p-2 text-left"
              disabled={!newest}
              onClick={() => void takeBack(newest)}
            >
              <b className="block">Take back last</b>
              <span className="note">{newest ? `${newest.words}, area ${newest.area}` : "nothing yet"}</span>
            </button>
            <AddNote area={area} enter={(note, photo) => enter({ area, plants: 0, faults: {}, note, photo })} />
          </div>
          {before.length ? (
            <details className="mt-2">
              <summary className="btn-link cursor-pointer py-2">What was counted last, by everybody</summary>
              <ul>
                {before.map((one) => (
                  <li key={one.uuid} className="flex items-center justify-between gap-3 border-hair border-b py-1">
                    <span>
                      area {one.area}: {one.words} <span className="note">{one.by}</span>
                    </span>
                    <button type="button" className="btn-link min-h-[44px]" onClick={() => void takeBack(one)}>
                      take back
                      <span className="sr-only">
                        {" "}
                        {one.words} in area {one.area}
                      </span>
                    </button>
                  </li>
                ))}
              </ul>
            </details>
          ) : null}
          {state === "continue" || next ? (
            <button
              type="button"
              className="mt-2 w-full border-[3px] border-decide bg-panel p-3 text-left text-decide disabled:border-rule disabled:text-ink3"
              disabled={left > 0 || !next}
              onClick={() => setChosen(next)}
            >
              <b className="block text-h1">{next ? `Close area ${area}` : `Area ${area} is the last`}</b>
              <span className="text-ink">
                {left > 0
                  ? `when ${count(left)} more plants are counted`
                  : next
                    ? `go on to area ${next}`
                    : "everything is counted"}
              </span>
            </button>
          ) : null}
          {state !== "continue" ? (
            <button
              type="button"
              className="btn btn-decide mt-2 min-h-14 w-full text-h2"
              disabled={offline}
              onClick={() => setSigning(true)}
            >
              {offline ? "Sign when there is a signal" : "Decide and sign"}
            </button>
          ) : null}
        </>
      ) : null}
      <details className="mt-3">
        <summary className="btn-link min-h-11 cursor-pointer text-right leading-[44px]">Rules of this count</summary>
        <Rules sheet={sheet} />
      </details>
      {signing ? <Sign sheet={sheet} onClose={() => setSigning(false)} onSigned={onFresh} /> : null}
    </div>
  );
}
