import { createContext, type ReactNode, useCallback, useContext, useEffect, useMemo, useState } from "react";
import { ApiError, api, type Schemas, take } from "../api/client";
import { saved } from "../api/queries";

export type Change = Partial<Schemas["ChangeIn"]>;
export type Command = Pick<Schemas["CommandIn"], "do"> & Partial<Schemas["CommandIn"]>;

export interface Conflict {
  message: string;
  theirs: string;
  yours: string;
  values: { name: string; theirs: unknown; yours: unknown; unit: string; kind: string }[];
}

/** What a proposal shows, whatever it is made of; stages only where one batch is moved. */
export type View = Pick<Schemas["ProposalOut"], "sentence" | "figures" | "orders" | "problems"> &
  Partial<Pick<Schemas["ProposalOut"], "stages" | "version" | "shift_days" | "loads">> &
  Partial<Pick<Schemas["ConsequencesOut"], "versions">>;

interface Proposed {
  batchId: number | null;
  change: Change;
  commands: Command[];
  proposal: View | null;
  error: ApiError | null;
  conflict: Conflict | null;
  busy: boolean;
}

/** A proposal that waits to be compared with others. */
export interface Aside {
  batchId: number | null;
  change: Change;
  commands: Command[];
  proposal: View;
}

export const MOST_ASIDE = 3;

/** What was kept just now, and the record by which it is undone. */
export interface Kept {
  id: number;
  sentence: string;
}

interface ProposalContext {
  proposed: Proposed | null;
  kept: Kept | null;
  propose: (batchId: number, change: Change) => void;
  proposeAll: (commands: Command[]) => Promise<void>;
  keep: () => Promise<void>;
  undo: () => Promise<void>;
  drop: () => void;
  aside: Aside[];
  /** Let what is proposed wait beside the others, nothing of it saved. */
  setAside: () => void;
  /** Propose one of them anew: it is worked out from what stands now. */
  takeUp: (which: Aside) => void;
  forget: () => void;
}

const Context = createContext<ProposalContext | null>(null);
const NOTHING = { change: {}, commands: [], proposal: null, error: null, conflict: null, busy: true };

/** Consequences before commitment: one proposal at a time, of whatever roots, kept or dropped, and undone at once. */
export function ProposalProvider({ children }: { children: ReactNode }) {
  const [proposed, setProposed] = useState<Proposed | null>(null);
  const [kept, setKept] = useState<Kept | null>(null);
  const [aside, setWaiting] = useState<Aside[]>([]);
  const propose = useCallback((batchId: number, change: Change) => {
    setKept(null);
    setProposed((old) => ({ ...NOTHING, batchId, change, proposal: old?.batchId === batchId ? old.proposal : null }));
    take(api.POST("/api/batches/{batch_id}/preview", { params: { path: { batch_id: batchId } }, body: full(change) }))
      .then((proposal) => setProposed((now) => (now?.change === change ? { ...now, proposal, busy: false } : now)))
      .catch((error) =>
        setProposed((now) => (now?.change === change ? { ...now, proposal: null, error, busy: false } : now)),
      );
  }, []);
  /** What is refused is thrown to whoever asked, whose fields show it; nothing else is touched. */
  const proposeAll = useCallback(async (commands: Command[]) => {
    const proposal = await take(
      api.POST("/api/proposals/preview", { body: { commands: whole(commands), cover: true } }),
    );
    setKept(null);
    setProposed({ ...NOTHING, batchId: null, commands, proposal, busy: false });
  }, []);
  const drop = useCallback(() => setProposed(null), []);
  const forget = useCallback(() => setWaiting([]), []);
  const setAside = useCallback(() => {
    if (!proposed?.proposal) return;
    const { batchId, change, commands, proposal } = proposed;
    setWaiting((old) => [...old, { batchId, change, commands, proposal }].slice(-MOST_ASIDE));
    setProposed(null);
  }, [proposed]);
  const takeUp = useCallback(
    (which: Aside) => {
      setWaiting((old) => old.filter((one) => one !== which));
      if (which.batchId !== null) propose(which.batchId, which.change);
      else
        proposeAll(which.commands).catch((error) =>
          setProposed({ ...NOTHING, batchId: null, commands: which.commands, error, busy: false }),
        );
    },
    [propose, proposeAll],
  );
  const keep = useCallback(async () => {
    if (!proposed?.proposal || proposed.busy) return;
    setProposed({ ...proposed, busy: true });
    try {
      setKept(await send(proposed));
      setProposed(null);
      setWaiting([]); // one of them was chosen
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
  const undo = useCallback(async () => {
    if (!kept) return;
    setKept(null);
    try {
      await take(api.POST("/api/proposals/{event_id}/undo", { params: { path: { event_id: kept.id } } }));
    } catch (error) {
      if (!(error instanceof ApiError)) throw error;
      setProposed({ ...NOTHING, batchId: null, error, busy: false });
    }
    await saved();
  }, [kept]);
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
  // Whoever goes on has seen it; later it is taken back in “What was done”.
  useEffect(() => {
    if (!kept) return;
    const gone = window.setTimeout(() => setKept(null), 20_000);
    return () => window.clearTimeout(gone);
  }, [kept]);
  const value = useMemo(
    () => ({ proposed, kept, propose, proposeAll, keep, undo, drop, aside, setAside, takeUp, forget }),
    [proposed, kept, propose, proposeAll, keep, undo, drop, aside, setAside, takeUp, forget],
  );
  return <Context.Provider value={value}>{children}</Context.Provider>;
}

async function send(proposed: Proposed): Promise<Kept | null> {
  const { proposal, batchId } = proposed;
  if (batchId !== null) {
    const done = await take(
      api.POST("/api/batches/{batch_id}/keep", {
        params: { path: { batch_id: batchId } },
        body: { version: proposal?.version ?? 0, change: full(proposed.change) },
      }),
    );
    return done.event === null ? null : { id: done.event, sentence: done.sentence };
  }
  return take(
    api.POST("/api/proposals/keep", {
      body: { commands: whole(proposed.commands), versions: proposal?.versions ?? {}, cover: true },
    }),
  );
}

/** A change with the lists that it says nothing about. */
export function full(change: Change): Schemas["ChangeIn"] {
  return { back_to_planned: false, split: [], lots: [], ...change } as Schemas["ChangeIn"];
}

function whole(commands: Command[]): Schemas["CommandIn"][] {
  return commands.map((one) => (one.change ? { ...one, change: full(one.change) } : one)) as Schemas["CommandIn"][];
}

export function useProposal(): ProposalContext {
  const context = useContext(Context);
  if (!context) throw new Error("useProposal needs a ProposalProvider around it");
  return context;
}
