import { useLocation, useNavigate } from "@tanstack/react-router";
import { useCallback, useEffect, useRef, useState } from "react";
import { ApiError, api, type Schemas, take } from "../../api/client";
import { saved } from "../../api/queries";
import { DayField } from "../../ui/DayField";
import { shortDay } from "../../ui/dates";
import { quantity, share, weighed } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { Faults, Pennant } from "../../ui/parts";
import type { BlockData } from "./Block";

type Change = Partial<Schemas["LayoutIn"]>;
type Preview = Schemas["LayoutPreviewOut"];

export interface LayoutProposal {
  change: Change;
  preview: Preview | null;
  error: ApiError | null;
  busy: boolean;
  propose: (change: Change) => void;
  keep: () => Promise<void>;
  drop: () => void;
}

/** A change of the layout is first a proposal: drawn, reckoned, and kept or dropped. */
export function useLayoutProposal(block: BlockData): LayoutProposal {
  const [change, setChange] = useState<Change>({});
  const [preview, setPreview] = useState<Preview | null>(null);
  const [error, setError] = useState<ApiError | null>(null);
  const [busy, setBusy] = useState(false);
  const path = { params: { path: { block_id: block.block_id ?? 0 } } };
  const asked = useRef(0);
  const drop = useCallback(() => {
    asked.current += 1;
    setChange({});
    setPreview(null);
    setError(null);
    setBusy(false);
  }, []);
  const propose = (next: Change) => {
    const whole: Change = {
      ...change,
      ...next,
      in_row_cm: { ...change.in_row_cm, ...next.in_row_cm },
      sow_on: { ...change.sow_on, ...next.sow_on },
    };
    setChange(whole);
    setBusy(true);
    setError(null);
    // Only the answer to the newest question counts, in whatever order answers come.
    const own = ++asked.current;
    const newest = () => own === asked.current;
    take(api.POST("/api/seed-blocks/{block_id}/preview", { ...path, body: full(whole) }))
      .then((found) => newest() && setPreview(found))
      .catch((fault: ApiError) => {
        if (!newest()) return;
        setPreview(null);
        setError(fault);
      })
      .finally(() => newest() && setBusy(false));
  };
  const keep = async () => {
    setBusy(true);
    try {
      await take(
        api.POST("/api/seed-blocks/{block_id}/keep", {
          ...path,
          body: { ...full(change), version: preview?.version ?? block.version },
        }),
      );
      drop();
    } catch (fault) {
      if (fault instanceof ApiError) setError(fault);
      setBusy(false);
    }
    await saved();
  };
  useAsked(propose);
  return { change, preview, error, busy, propose, keep, drop };
}

/** Sowing days that another view asks to see as a proposal; asked once. */
function useAsked(propose: (change: Change) => void) {
  const asked = useLocation({ select: (at) => (at.state as { sowOn?: Record<string, string> }).sowOn });
  const done = useRef(false);
  useEffect(() => {
    if (!asked || done.current) return;
    done.current = true;
    propose({ sow_on: asked });
  });
}

function full(change: Change): Schemas["LayoutIn"] {
  return { in_row_cm: {}, establishment: {}, sow_on: {}, ...change };
}

interface One {
  key: string;
  label: string;
  unit: string;
  value: string;
  read: (text: string) => Change | null;
  type?: "date";
}

const number = (key: keyof Change) => (text: string) => {
  const value = Number(text.replace(",", "."));
  return text.trim() && Number.isFinite(value) ? ({ [key]: value } as Change) : null;
};

/** The fields as they stand: what is saved, and on top what is proposed. */
function fieldsOf(block: BlockData, change: Change): One[] {
  const layout = {
    ...block.layout,
    ...change,
    in_row_cm: { ...block.layout.in_row_cm, ...change.in_row_cm },
    sow_on: { ...block.layout.sow_on, ...change.sow_on },
  };
  const rows: One[] = layout.pattern
    ? [
        {
          key: "pattern",
          label: "Pattern",
          unit: "",
          value: layout.pattern,
          read: (text) => ({ pattern: text.toUpperCase() }),
        },
        {
          key: "bearing_deg",
          label: "Bearing",
          unit: "° from north",
          value: String(layout.bearing_deg),
          read: number("bearing_deg"),
        },
        {
          key: "row_spacing_m",
          label: "Rows apart",
          unit: "m",
          value: String(layout.row_spacing_m),
          read: number("row_spacing_m"),
        },
        {
          key: "border_rows",
          label: "Border rows",
          unit: "a side",
          value: String(layout.border_rows),
          read: number("border_rows"),
        },
        {
          key: "headland_rows",
          label: "Headlands",
          unit: "rows an end",
          value: String(layout.headland_rows),
          read: number("headland_rows"),
        },
        {
          key: "planter_rows",
          label: "Planter",
          unit: "rows wide",
          value: String(layout.planter_rows ?? ""),
          read: number("planter_rows"),
        },
        ...Object.entries(layout.in_row_cm).map(
          ([line, cm]): One => ({
            key: `in_row.${line}`,
            label: `${line} in the row`,
            unit: "cm",
            value: String(cm),
            read: (text) => (Number(text) > 0 ? { in_row_cm: { [line]: Number(text) } } : null),
          }),
        ),
      ]
    : [
        {
          key: "target_per_m2",
          label: "Plants wanted",
          unit: "per m²",
          value: String(layout.target_per_m2 ?? ""),
          read: number("target_per_m2"),
        },
        {
          key: "row_spacing_m",
          label: "Rows apart",
          unit: "m",
          value: String(layout.row_spacing_m),
          read: number("row_spacing_m"),
        },
      ];
  const sowing = block.parents.map(
    (parent): One => ({
      key: `sow.${parent.role}`,
      label: `Sow ${parent.role}`,
      unit: "",
      type: "date",
      value: layout.sow_on[parent.role] ?? "",
      read: (text) => (text ? { sow_on: { [parent.role]: text } } : null),
    }),
  );
  const male = block.parents.some((parent) => parent.role === "M")
    ? [
        {
          key: "male_sowings",
          label: "Male sowings",
          unit: "",
          value: String(layout.male_sowings),
          read: number("male_sowings"),
        },
        {
          key: "male_gap_days",
          label: "days between",
          unit: "d",
          value: String(layout.male_gap_days),
          read: number("male_gap_days"),
        },
      ]
    : [];
  return [...rows, ...sowing, ...male];
}

/** What a person may change of the layout; while the block is sown only what still can. */
export function LayoutFields({ block, layout }: { block: BlockData; layout: LayoutProposal }) {
  const may = useMay();
  const undo = useSave(() =>
    take(api.POST("/api/seed-blocks/{block_id}/undo", { params: { path: { block_id: block.block_id ?? 0 } } })),
  );
  const navigate = useNavigate();
  const takeUp = useSave(async () => {
    const path = { params: { path: { block_id: block.block_id ?? 0 } }, body: { version: block.version } };
    const done = await take(api.POST("/api/seed-blocks/{block_id}/take-up", path));
    await navigate({ to: "/seedcrops" }); // before the lists are asked again: this block is gone
    return done;
  });
  const sown = new Set(block.parents.filter((parent) => parent.sown.length).map((parent) => parent.role));
  const open = may("seedcrops.plan") && block.state === "planned";
  return (
    <div className="flex-none">
      <dl className="grid flex-none grid-cols-[96px_132px] content-start gap-x-2" key={`${block.version}`}>
        {fieldsOf(block, layout.change).map((one) => {
          const fixed = !open || (one.key.startsWith("sow.") && sown.has(one.key.slice(4)));
          return <LayoutRow key={one.key} one={one} fixed={fixed} onChange={(change) => layout.propose(change)} />;
        })}
      </dl>
      {block.can_undo && may("seedcrops.plan") ? (
        <button
          type="button"
          className="btn-link note mt-1"
          disabled={undo.isPending}
          onClick={() => undo.mutate(undefined)}
        >
          undo the last change
        </button>
      ) : null}
      {open && !sown.size ? (
        <details>
          <summary className="btn-link note mt-1 cursor-pointer">wrong field?</summary>
          <p className="note w-[236px]">
            The rows, sowing days and planned visits go; {block.code} can then be laid out elsewhere.
          </p>
          <button type="button" className="btn" disabled={takeUp.isPending} onClick={() => takeUp.mutate(undefined)}>
            Take the layout up
          </button>
        </details>
      ) : null}
      <Faults error={undo.error ?? takeUp.error} />
    </div>
  );
}

function LayoutRow({ one, fixed, onChange }: { one: One; fixed: boolean; onChange: (change: Change) => void }) {
  const [text, setText] = useState(one.value);
  useEffect(() => setText(one.value), [one.value]);
  const [fault, setFault] = useState("");
  const commit = () => {
    const change = text === one.value ? null : one.read(text);
    if (change) onChange(change);
    setFault(change || text === one.value || one.type === "date" ? "" : `“${text}” is no number; nothing changed.`);
  };
  return (
    <>
      <dt className="note self-center">{one.label}</dt>
      <dd className="flex min-h-6 flex-wrap items-baseline gap-x-1">
        {fixed ? (
          <b>{one.type === "date" ? shortDay(one.value) : one.value}</b>
        ) : one.type === "date" ? (
          <DayField
            bare
            className="w-[124px] min-w-0 border-ink3 border-b border-dotted bg-transparent font-semibold"
            aria-label={one.label}
            value={text}
            onChange={setText}
            onDone={commit}
          />
        ) : (
          <input
            className={`min-w-0 border-ink3 border-b border-dotted bg-transparent font-semibold ${one.unit ? "w-14" : "w-24"}`}
            aria-label={one.label}
            value={text}
            onChange={(event) => setText(event.target.value)}
            onBlur={commit}
            onKeyDown={(event) => {
              if (event.key === "Enter") event.currentTarget.blur();
              if (event.key === "Escape") setText(one.value);
            }}
            aria-invalid={fault ? true : undefined}
          />
        )}
        <span className="note">{one.unit}</span>
        {fault ? <span className="fault note">{fault}</span> : null}
      </dd>
    </>
  );
}

function shown(value: unknown, unit: string, kind: string): string {
  if (value === null || value === undefined) return "none";
  if (kind === "share") return share(Number(value), 1);
  if (kind === "day") return shortDay(String(value));
  if (weighed(unit)) return quantity(Number(value), unit);
  return `${Number(Number(value).toFixed(1))} ${unit}`;
}

/** At the foot: what the change does, before it is kept or dropped. */
export function LayoutBar({ layout }: { layout: LayoutProposal }) {
  const { preview, error, busy } = layout;
  if (!preview && !error && !busy) return null;
  return (
    <section
      aria-label="Consequences of the proposal"
      aria-live="polite"
      className="noprint sticky bottom-0 z-10 mt-4 flex min-h-[116px] gap-4 border-t-[3px] border-decide bg-panel px-4 py-2"
    >
      <div className="min-w-0 flex-1">
        <Faults error={error} />
        {preview ? (
          <>
            <p className="text-h2">
              <Pennant>Proposed</Pennant> {preview.sentence}
            </p>
            <div className="mt-1 flex flex-wrap gap-x-7 gap-y-1">
              {preview.figures.map((figure) => {
                const [before, after] = [
                  shown(figure.before, figure.unit, figure.kind),
                  shown(figure.after, figure.unit, figure.kind),
                ];
                return (
                  <div key={figure.name}>
                    <div className="note">{figure.name}</div>
                    <div className="whitespace-nowrap text-h2">
                      {before === after ? (
                        <span className="text-ink2">{after}</span>
                      ) : (
                        <>
                          <span className="text-ink3">{before}</span> <Arrow />{" "}
                          <b className={figure.worse ? "underline decoration-2" : ""}>{after}</b>
                        </>
                      )}
                    </div>
                    {figure.note ? <div className="fault note">{figure.note}</div> : null}
                  </div>
                );
              })}
            </div>
          </>
        ) : busy ? (
          <p className="text-ink3">Working it out …</p>
        ) : null}
      </div>
      <div className="flex w-32 flex-none flex-col gap-2">
        <button
          type="button"
          className="btn btn-decide h-8"
          disabled={!preview || busy}
          onClick={() => void layout.keep()}
        >
          Keep
        </button>
        <button type="button" className="btn h-8" onClick={layout.drop}>
          Drop
        </button>
      </div>
    </section>
  );
}

export function Arrow() {
  return (
    <svg width="14" height="9" viewBox="0 0 14 9" className="inline" role="img" aria-label="to">
      <path d="M0 4.5h12M8.5 1l4 3.5-4 3.5" fill="none" className="stroke-ink" strokeWidth="1.5" />
    </svg>
  );
}
