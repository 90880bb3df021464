import {
  createContext,
  type PointerEvent,
  type ReactNode,
  useCallback,
  useContext,
  useEffect,
  useMemo,
  useRef,
  useState,
} from "react";
import { api, type Schemas, take } from "../../api/client";
import { type Change, useProposal } from "../../shell/proposal";
import { useSpan } from "../../shell/span";
import { addDays, shortDay } from "../../ui/dates";
import type { Body } from "./boardLayout";

type Lane = Schemas["LaneOut"];
export type Offer = Schemas["PlaceOfferOut"];

/** A batch that a hand holds: which, from where, where it is now, and what each place would hold with it. */
interface Lifted {
  body: Body;
  home: number;
  over: number;
  offers: Map<number, Offer>;
}

interface Hand {
  lanes: Lane[];
  grab: (event: PointerEvent<Element>, body: Body, home: number) => void;
}

// Two, because what is in the hand changes with every lane it is moved over, and what takes hold does not.
const Context = createContext<Hand | null>(null);
const InHand = createContext<Lifted | null>(null);
const SLIP = 4; // px under which a press is a press
const EDGE = 48; // px from the edge of the page, from which it scrolls along
const REST = 180; // ms after which the places are asked how full they would be

/** Taking hold of a body: sideways moves its days, up and down its place, both in one drag. */
export function BoardHands({ lanes, children }: { lanes: Lane[]; children: ReactNode }) {
  const { scale, span } = useSpan();
  const { proposed, propose } = useProposal();
  const [lifted, setLifted] = useState<Lifted | null>(null);
  const ghost = useRef<HTMLDivElement>(null);
  const drop = useRef<() => void>(() => undefined);
  useEffect(() => () => drop.current(), []);
  const perDay = scale.open / span.days;
  const grab = useCallback(
    (event: PointerEvent<Element>, body: Body, home: number) => {
      if (event.button !== 0) return;
      const main = document.getElementById("work");
      const box = event.currentTarget.getBoundingClientRect();
      const from = { x: event.clientX, y: event.clientY, scroll: main?.scrollTop ?? 0 };
      const at = { x: from.x, y: from.y };
      const moving = proposed?.batchId === body.batch_id;
      const already: Change = moving ? proposed.change : {};
      let over = home; // beside every lane it stays where it was last
      let held = false;
      let asked: number | undefined;
      let timer = 0;
      let frame = 0;
      const days = () => Math.round((at.x - from.x) / perDay);
      const under = () => {
        const lane = document.elementsFromPoint(at.x, at.y).find((one) => one.closest("[data-place]"));
        over = Number(lane?.closest<HTMLElement>("[data-place]")?.dataset.place ?? over);
        return over;
      };
      const ask = () => {
        const shift = days();
        if (asked === shift) return;
        asked = shift;
        take(
          api.GET("/api/batches/{batch_id}/places", {
            params: { path: { batch_id: body.batch_id }, query: { stage: body.stage, shift_days: shift } },
          }),
        )
          .then((rows) =>
            setLifted((now) => (now ? { ...now, offers: new Map(rows.map((row) => [row.place_id, row])) } : now)),
          )
          .catch(() => undefined); // a label is missing then; putting it down still asks
      };
      const draw = () => {
        const shown = ghost.current;
        if (!shown) return;
        shown.style.transform = `translate(${box.left + at.x - from.x}px, ${box.top + at.y - from.y}px)`;
        const shift = days();
        const label = shown.querySelector("[data-days]");
        if (label) label.textContent = shift ? shortDay(addDays(body.start, shift)) : "";
      };
      const follow = () => {
        const edges = main?.getBoundingClientRect();
        if (main && edges) {
          const near = at.y > edges.bottom - EDGE ? 14 : at.y < edges.top + EDGE ? -14 : 0;
          if (near) main.scrollTop += near;
        }
        draw();
        const lane = under();
        setLifted((now) => (now && now.over !== lane ? { ...now, over: lane } : now));
        frame = requestAnimationFrame(follow);
      };
      const move = (step: globalThis.PointerEvent) => {
        at.x = step.clientX;
        at.y = step.clientY;
        if (!held && Math.hypot(at.x - from.x, at.y - from.y) > SLIP) {
          held = true;
          setLifted({ body, home, over: home, offers: new Map() });
          frame = requestAnimationFrame(follow);
          ask();
        }
        if (!held) return;
        window.clearTimeout(timer);
        timer = window.setTimeout(ask, REST);
      };
      const end = () => {
        window.clearTimeout(timer);
        cancelAnimationFrame(frame);
        window.removeEventListener("pointermove", move);
        window.removeEventListener("pointerup", up);
        window.removeEventListener("pointercancel", end);
        window.removeEventListener("keydown", key, true);
        drop.current = () => undefined;
        setLifted(null);
      };
      const up = () => {
        const [shift, place] = [days(), under()];
        const was = held;
        end();
        if (!was) return;
        // The press that follows a drag opens nothing.
        const shut = new AbortController();
        window.addEventListener("click", (click) => click.stopPropagation(), { capture: true, signal: shut.signal });
        window.setTimeout(() => shut.abort(), 0);
        if (!shift && place === home) return;
        const change: Change = { ...already };
        if (shift) change.shift_days = shift;
        if (place !== home) change.place_id = place;
        propose(body.batch_id, placed(body, change));
      };
      const key = (pressed: globalThis.KeyboardEvent) => {
        if (pressed.key !== "Escape") return;
        pressed.stopPropagation();
        end();
      };
      drop.current = end;
      window.addEventListener("pointermove", move);
      window.addEventListener("pointerup", up);
      window.addEventListener("pointercancel", end);
      window.addEventListener("keydown", key, true);
    },
    [perDay, propose, proposed],
  );
  const value = useMemo(() => ({ lanes, grab }), [lanes, grab]);
  return (
    <Context.Provider value={value}>
      <InHand.Provider value={lifted}>
        {children}
        {lifted ? <Ghost lifted={lifted} lanes={lanes} ref={ghost} /> : null}
      </InHand.Provider>
    </Context.Provider>
  );
}

/** A change of days and place together: the stage is named where the place or a running batch asks for it. */
export function placed(body: Body, change: Change): Change {
  const { stage: _, ...rest } = change;
  return rest.place_id || body.state !== "planned" ? { ...rest, stage: body.stage } : rest;
}

/** What the hand holds, beside the pointer: its code, its new day, and how full the place under it would be. */
function Ghost({ lifted, lanes, ref }: { lifted: Lifted; lanes: Lane[]; ref: React.RefObject<HTMLDivElement | null> }) {
  const lane = lanes.find((one) => one.place_id === lifted.over);
  const offer = lifted.offers.get(lifted.over);
  const fits = offer || !lifted.offers.size;
  return (
    <div
      ref={ref}
      className="cond pointer-events-none fixed top-0 left-0 z-30 border-2 border-decide bg-panel px-2 text-decide text-note"
      aria-live="polite"
    >
      <b>
        {lifted.body.code} {lifted.body.crop}
      </b>{" "}
      <span data-days="" />
      <br />
      {lane?.name ?? ""}
      {offer ? `, ${offer.words}` : fits ? "" : ", cannot take it"}
    </div>
  );
}

export function useHand(): Hand {
  const context = useContext(Context);
  if (!context) throw new Error("useHand needs BoardHands around it");
  return context;
}

export const useLifted = (): Lifted | null => useContext(InHand);
