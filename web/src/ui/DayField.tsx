import { useEffect, useState } from "react";
import { useSpan } from "../shell/span";
import { addDays, type Day, fullDay, isoWeek } from "./dates";
import { DAY_HINT, readDay } from "./readDay";

const STEPS = { ArrowUp: 1, ArrowDown: -1, PageUp: 7, PageDown: -7 } as Record<string, number>;

interface DayProps {
  value: Day | "";
  onChange: (day: Day | "") => void;
  min?: Day;
  max?: Day;
  required?: boolean;
  className?: string;
  "aria-label"?: string;
  /** Told when the field is left or Enter pressed, where a change is dear. */
  onDone?: () => void;
  /** Without the week beside it, where there is no room. */
  bare?: boolean;
}

/** A day as growers write it, with its week; where fingers point, the device's own calendar. */
export function DayField(props: DayProps) {
  const [touch] = useState(() => window.matchMedia("(pointer: coarse)").matches);
  return touch ? <Native {...props} /> : <Written {...props} />;
}

function Native({ value, onChange, onDone, bare, className = "", ...rest }: DayProps) {
  return (
    <>
      <input
        {...rest}
        className={`input ${className}`}
        type="date"
        value={value}
        onChange={(event) => onChange(event.target.value)}
        onBlur={onDone}
      />
      {value && !bare ? <span className="note">{`${said(value)}, ${week(value)}`}</span> : null}
    </>
  );
}

const said = (day: Day | "") => (day ? fullDay(day) : "");
const week = (day: Day) => `week ${isoWeek(day).week}`;

function Written({ value, onChange, min, max, onDone, bare, className = "", ...rest }: DayProps) {
  const { today } = useSpan();
  const [text, setText] = useState(said(value));
  const [typing, setTyping] = useState(false);
  useEffect(() => {
    // What cannot be read stays, with the sentence that says so.
    if (!typing) setText((old) => (value || readDay(old, today) ? said(value) : old));
  }, [value, typing, today]);
  const wrong = (day: Day | null) => {
    if (!day) return text.trim() ? DAY_HINT : "";
    if (max && day > max) return `${said(day)} is still to come; the last day here is ${said(max)}`;
    if (min && day < min) return `${said(day)} is over; the first day here is ${said(min)}`;
    return "";
  };
  const read = (next: string) => {
    setText(next);
    const day = readDay(next, today);
    if (day !== value) onChange(day ?? "");
  };
  const fault = wrong(typing ? readDay(text, today) : value || readDay(text, today));
  const step = (days: number) => {
    const day = addDays(value || today, days);
    if ((max && day > max) || (min && day < min)) return;
    setText(said(day));
    onChange(day);
  };
  return (
    <span className="flex flex-wrap items-baseline gap-x-2 gap-y-1">
      <input
        {...rest}
        ref={(element) => element?.setCustomValidity(fault)}
        className={`${bare ? "" : "input !w-36"} ${className}`}
        type="text"
        autoComplete="off"
        spellCheck={false}
        value={text}
        aria-invalid={fault && !typing ? true : undefined}
        onFocus={(event) => {
          setTyping(true);
          event.target.select();
        }}
        onChange={(event) => read(event.target.value)}
        onBlur={() => {
          setTyping(false);
          onDone?.();
        }}
        onKeyDown={(event) => {
          const days = STEPS[event.key];
          if (days) {
            event.preventDefault();
            step(days);
          }
          if (event.key === "Enter" && onDone) event.currentTarget.blur();
        }}
      />
      {value && !bare ? (
        <span className="note">{typing && text !== said(value) ? `${said(value)}, ${week(value)}` : week(value)}</span>
      ) : null}
      {fault && !typing ? <span className="fault note">{fault}.</span> : null}
    </span>
  );
}
