import { createContext, type ReactNode, useCallback, useContext, useMemo, useState } from "react";
import type { Schemas } from "../api/client";
import { stepValue } from "../ui/format";
import { OriginMark } from "../ui/parts";

export interface WorkingContent {
  title: string;
  value: string;
  steps: Schemas["StepOut"][];
  /** The outcomes behind the number, drawn. */
  picture?: ReactNode;
  /** Where an assumption is changed. */
  change?: ReactNode;
}

interface WorkingContext {
  content: WorkingContent | null;
  open: boolean;
  /** Put a number's working in the panel; `reveal` opens it. */
  show: (content: WorkingContent, reveal?: boolean) => void;
  setOpen: (open: boolean) => void;
}

const Context = createContext<WorkingContext | null>(null);

export function WorkingProvider({ children }: { children: ReactNode }) {
  const [content, setContent] = useState<WorkingContent | null>(null);
  const [open, setOpen] = useState(false);
  const show = useCallback((next: WorkingContent, reveal = false) => {
    setContent(next);
    if (reveal) setOpen(true);
  }, []);
  const value = useMemo(() => ({ content, open, show, setOpen }), [content, open, show]);
  return <Context.Provider value={value}>{children}</Context.Provider>;
}

export function useWorking(): WorkingContext {
  const context = useContext(Context);
  if (!context) throw new Error("useWorking needs a WorkingProvider around it");
  return context;
}

/** Beside whatever number has the focus: how it was computed, from which values, from where. */
export function WorkingPanel() {
  const { content, open, setOpen } = useWorking();
  if (!open) return null;
  return (
    <aside
      aria-label="Working"
      className="noprint flex-none overflow-y-auto border-ink bg-panel px-4 py-2 max-lg:fixed max-lg:inset-x-0 max-lg:bottom-11 max-lg:z-30 max-lg:max-h-[60vh] max-lg:border-t-2 lg:w-[21rem] lg:border-l-[1.5px]"
    >
      <div className="flex items-baseline gap-2">
        <h2>Working</h2>
        <span className="min-w-0 flex-1 truncate">
          {content ? (
            <>
              {content.title}
              {content.value ? (
                <>
                  , <b>{content.value}</b>
                </>
              ) : null}
            </>
          ) : null}
        </span>
        <button type="button" className="btn-link note" onClick={() => setOpen(false)}>
          W close
        </button>
      </div>
      {content?.picture ? <div className="mt-2">{content.picture}</div> : null}
      {content ? (
        <ol className="mt-2">
          {content.steps.map((step, index) => (
            <li key={index} className="border-hair border-t py-1.5">
              <div className="flex justify-between gap-3">
                <span>
                  <span className="note mr-2">{index + 1}</span>
                  {step.label}
                </span>
                <b className="whitespace-nowrap">{stepValue(step.value, step.unit)}</b>
              </div>
              <div className="note ml-4">{step.formula}</div>
              {step.inputs.length ? (
                <table className="ml-4 w-[calc(100%-1rem)]">
                  <tbody>
                    {step.inputs.map((given) => (
                      <tr key={given.name} className="align-top">
                        <td className="note pr-2 text-ink2">{given.name}</td>
                        <td className="note whitespace-nowrap pr-2 text-right font-semibold text-ink">
                          {stepValue(given.value, given.unit)}
                        </td>
                        <td className="note text-right">
                          <OriginMark origin={given.origin} source={given.source ?? null} />
                          {given.source ? <div className="note">{given.source}</div> : null}
                        </td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              ) : null}
              {step.source ? <div className="note ml-4">{step.source}</div> : null}
            </li>
          ))}
        </ol>
      ) : (
        <p className="mt-3 text-ink3">Go to a number with a line under it, and its working stands here.</p>
      )}
      {content?.change ? <div className="mt-2 border-ink border-t pt-2">{content.change}</div> : null}
    </aside>
  );
}
