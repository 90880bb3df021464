import { useNavigate } from "@tanstack/react-router";
import { createContext, type ReactNode, useContext, useEffect, useMemo, useRef, useState } from "react";
import { addDays, type Day, dayNumber, fromNumber, monday, sayNoYearOf } from "../ui/dates";
import { useAddress } from "../ui/hooks";

/** The span of time that every room shows, and the one scale on which everything with a date hangs. */
export interface Span {
  start: Day;
  days: number;
}

/** Season line, left fold, open time, right fold: x in px from the left edge of the work area. */
export interface Scale {
  left: number;
  open: number;
  right: number;
  width: number;
  x: (day: Day) => number;
  dayAt: (x: number) => Day;
}

export const HEAD = 104;
export const FOLD = 132;
export const MARGIN = 12;
const NARROW = 720;

/** How wide the folds left and right of the open time are: on a phone a finger's breadth. */
const folds = (width: number) => (width < NARROW ? { head: 20, fold: 24 } : { head: HEAD, fold: FOLD });

interface SpanContext {
  span: Span;
  setSpan: (span: Span) => void;
  season: { start: Day; end: Day };
  today: Day;
  width: number;
  scale: Scale;
}

const Context = createContext<SpanContext | null>(null);

export function makeScale(width: number, span: Span, season: { start: Day; end: Day }): Scale {
  const { head, fold } = folds(width);
  const open = Math.max(200, width - head - fold - MARGIN);
  const first = dayNumber(span.start);
  const last = first + span.days;
  const from = dayNumber(season.start);
  const to = dayNumber(season.end);
  const x = (day: Day) => {
    const n = dayNumber(day);
    if (n < first) return first === from ? head : Math.max(0, ((n - from) / (first - from)) * head);
    if (n > last) return to === last ? head + open : head + open + Math.min(1, (n - last) / (to - last)) * fold;
    return head + ((n - first) / span.days) * open;
  };
  const dayAt = (px: number) => {
    if (px < head) return fromNumber(Math.round(from + (px / head) * (first - from)));
    if (px > head + open) return fromNumber(Math.round(last + ((px - head - open) / fold) * (to - last)));
    return fromNumber(Math.floor(first + ((px - head) / open) * span.days));
  };
  return { left: head, open, right: fold, width, x, dayAt };
}

/** A span as it stands in an address: its first day and how many, “2027-06-07.112”. */
function readSpan(text: string | undefined): Span | null {
  const found = /^(\d{4}-\d{2}-\d{2})\.(\d{1,3})$/.exec(text ?? "");
  if (!found?.[1] || Number.isNaN(Date.parse(found[1]))) return null;
  const days = Number(found[2]);
  return days >= 7 && days <= 364 ? { start: found[1], days } : null;
}

const KEPT = "aldrip.span";

export function SpanProvider({
  today,
  season,
  width,
  children,
}: {
  today: Day;
  season: { start: Day; end: Day };
  width: number;
  children: ReactNode;
}) {
  sayNoYearOf(today);
  const usual = useMemo(() => ({ start: addDays(monday(today), -28), days: 112 }), [today]);
  const navigate = useNavigate();
  const asked = useAddress().span;
  const [span, setRaw] = useState<Span>(() => {
    const given = readSpan(asked);
    if (given) return given;
    try {
      const kept = JSON.parse(sessionStorage.getItem(KEPT) ?? "null") as (Span & { today: Day }) | null;
      return kept && kept.today === today && kept.days >= 7 ? { start: kept.start, days: kept.days } : usual;
    } catch {
      return usual;
    }
  });
  useEffect(() => {
    sessionStorage.setItem(KEPT, JSON.stringify({ ...span, today }));
  }, [span, today]);
  // Who comes by a link sees the span that was sent along.
  useEffect(() => {
    const given = readSpan(asked);
    if (given) setRaw((now) => (now.start === given.start && now.days === given.days ? now : given));
  }, [asked]);
  const chosen = useRef(false);
  useEffect(() => {
    if (!chosen.current) return;
    const later = window.setTimeout(() => {
      chosen.current = false;
      const usually = span.start === usual.start && span.days === usual.days;
      const words = usually ? undefined : `${span.start}.${span.days}`;
      navigate({ to: ".", search: (old) => ({ ...old, span: words }), replace: true });
    }, 400);
    return () => window.clearTimeout(later);
  }, [span, usual, navigate]);
  const setSpan = useMemo(
    () => (next: Span) => {
      const days = Math.min(364, Math.max(7, Math.round(next.days)));
      const least = dayNumber(season.start);
      const most = dayNumber(season.end) - days;
      chosen.current = true;
      setRaw({ start: fromNumber(Math.min(most, Math.max(least, dayNumber(next.start)))), days });
    },
    [season],
  );
  const scale = useMemo(() => makeScale(width, span, season), [width, span, season]);
  return <Context.Provider value={{ span, setSpan, season, today, width, scale }}>{children}</Context.Provider>;
}

export function useSpan(): SpanContext {
  const context = useContext(Context);
  if (!context) throw new Error("useSpan needs a SpanProvider around it");
  return context;
}
