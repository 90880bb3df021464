import { createContext, type ReactNode, useCallback, useContext, useEffect, useMemo, useState } from "react";
import { ApiError, api, type Schemas, take } from "../api/client";
import { saved } from "../api/queries";

export type Change = Partial<Schemas["ChangeIn"]>;

export interface Conflict {
  message: string;
  theirs: string;
  yours: string;
  values: { name: string; theirs: unknown; yours: unknown; unit: string; kind: string }[];
}

interface Proposed {
  batchId: number;
  change: Change;
  proposal: Schemas["ProposalOut"] | null;
  error: ApiError | null;
  conflict: Conflict | null;
  busy: boolean;
}

interface ProposalContext {
  proposed: Proposed | null;
  propose: (batchId: number, change: Change) => void;
  keep: () => Promise<void>;
  drop: () => void;
}

const Context = createContext<ProposalContext | null>(null);

/** Consequences before commitment: one proposal at a time, kept or dropped. */
export function ProposalProvider({ children }: { children: ReactNode }) {
  const [proposed, setProposed] = useState<Proposed | null>(null);
  const propose = useCallback((batchId: number, change: Change) => {
    setProposed((old) => ({
      batchId,
      change,
      proposal: old?.batchId === batchId ? old.proposal : null,
      error: null,
      conflict: null,
      busy: true,
    }));
    take(api.POST("/api/batches/{batch_id}/preview", { params: { path: { batch_id: batchId } }, body: full(change) }))
      .then((proposal) => setProposed((now) => (now?.change === change ? { ...now, proposal, busy: false } : now)))
      .catch((error) =>
        setProposed((now) => (now?.change === change ? { ...now, proposal: null, error, busy: false } : now)),
      );
  }, []);
  const drop = useCallback(() => setProposed(null), []);
  const keep = useCallback(async () => {
    if (!proposed?.proposal || proposed.busy) return;
    setProposed({ ...proposed, busy: true });
    try {
      await take(
        api.POST("/api/batches/{batch_id}/keep", {
          params: { path: { batch_id: proposed.batchId } },
          body: { version: proposed.proposal.version, change: full(proposed.change) },
        }),
      );
      setProposed(null);
    } catch (error) {
      if (!(error instanceof ApiError)) throw error;
      const conflict = error.status === 409 ? (error.data as unknown as Conflict & { title: string }) : null;
      setProposed({
        ...proposed,
        busy: false,
        error,
        conflict: conflict ? { ...conflict, message: conflict.title } : null,
      });
    }
    await saved();
  }, [proposed]);
  useEffect(() => {
    if (!proposed) return;
    const onKey = (event: KeyboardEvent) => {
      const busyElsewhere = (event.target as HTMLElement).closest("input, textarea, select, button, a, [role=dialog]");
      if (event.key === "Escape") drop();
      else if (event.key === "Enter" && !busyElsewhere && !event.defaultPrevented) {
        event.preventDefault();
        void keep();
      }
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [proposed, keep, drop]);
  const value = useMemo(() => ({ proposed, propose, keep, drop }), [proposed, propose, keep, drop]);
  return <Context.Provider value={value}>{children}</Context.Provider>;
}

function full(change: Change): Schemas["ChangeIn"] {
  return { back_to_planned: false, split: [], lots: [], ...change } as Schemas["ChangeIn"];
}

export function useProposal(): ProposalContext {
  const context = useContext(Context);
  if (!context) throw new Error("useProposal needs a ProposalProvider around it");
  return context;
}
