import { MutationCache, QueryCache, QueryClient, queryOptions } from "@tanstack/react-query";
import { ApiError, api, rememberCsrf, take, takeTouched } from "./client";
import rests from "./rests.json";

/** A row in an address: its number, or its uuid. */
export type Ref = number | string;
export const ref = (text: string): Ref => (/^\d+$/.test(text) ? Number(text) : text);

/** A session that is over is asked for anew over the page; nothing that was typed is lost. */
const onError = (error: unknown) => {
  if (error instanceof ApiError && error.status === 401)
    void queryClient.invalidateQueries({ queryKey: ["session"], exact: true });
};

export const queryClient = new QueryClient({
  queryCache: new QueryCache({ onError }),
  mutationCache: new MutationCache({ onError }),
  defaultOptions: {
    // Without a signal the answer is that there is none; nothing waits unseen to be sent later.
    mutations: { networkMode: "always" },
    queries: {
      networkMode: "always",
      staleTime: 15_000,
      retry: (count, error) => count < 2 && !(error instanceof ApiError && error.status >= 400 && error.status < 500),
      refetchOnWindowFocus: true,
    },
  },
});

export const sessionQuery = queryOptions({
  queryKey: ["session"],
  queryFn: async () => {
    const session = await take(api.GET("/api/session"));
    rememberCsrf(session.csrf);
    return session;
  },
  staleTime: 60_000,
});
export const offerQuery = queryOptions({
  queryKey: ["offer"],
  queryFn: () => take(api.GET("/api/setup/offer")),
  staleTime: Number.POSITIVE_INFINITY,
});
export const homelessQuery = queryOptions({
  queryKey: ["batches", "homeless"],
  queryFn: () => take(api.GET("/api/batches/homeless")),
});
export const closedQuery = queryOptions({ queryKey: ["closed"], queryFn: () => take(api.GET("/api/closed-days")) });
export const membersQuery = queryOptions({ queryKey: ["members"], queryFn: () => take(api.GET("/api/members")) });
export const libraryQuery = queryOptions({
  queryKey: ["library"],
  queryFn: () => take(api.GET("/api/library")),
  staleTime: 300_000,
});
export const formsQuery = queryOptions({
  queryKey: ["library", "forms"],
  queryFn: () => take(api.GET("/api/library/forms")),
  staleTime: 3_600_000,
});
export const rowsQuery = queryOptions({
  queryKey: ["library", "rows"],
  queryFn: () => take(api.GET("/api/library/rows")),
});
export const rowQuery = (kind: string, slug: string) =>
  queryOptions({
    queryKey: ["library", "row", kind, slug],
    queryFn: () => take(api.GET("/api/library/{kind}/{slug}", { params: { path: { kind, slug } } })),
  });
export const editionsQuery = (kind: string, slug: string) =>
  queryOptions({
    queryKey: ["library", "editions", kind, slug],
    queryFn: () => take(api.GET("/api/library/{kind}/{slug}/editions", { params: { path: { kind, slug } } })),
  });
export const placesQuery = queryOptions({ queryKey: ["places"], queryFn: () => take(api.GET("/api/places")) });
export const weatherQuery = (site: number) =>
  queryOptions({
    queryKey: ["places", "weather", site],
    queryFn: () => take(api.GET("/api/sites/{site_id}/weather", { params: { path: { site_id: site } } })),
  });
export const seasonQuery = queryOptions({ queryKey: ["season"], queryFn: () => take(api.GET("/api/season-line")) });
/** Weeks back for which lists show what is over: at first, and where somebody asks for more. */
export const LATELY = 8;
export const A_YEAR = 52;
export const ordersQuery = (back: number) =>
  queryOptions({
    queryKey: ["orders", "lines", back],
    queryFn: () => take(api.GET("/api/orders", { params: { query: { back } } })),
  });
export const customersQuery = queryOptions({
  queryKey: ["customers"],
  queryFn: () => take(api.GET("/api/customers")),
});
export const customerQuery = (name: string) =>
  queryOptions({
    queryKey: ["customers", name],
    queryFn: () => take(api.GET("/api/customers/one", { params: { query: { name } } })),
  });
export const standingQuery = (id: number) =>
  queryOptions({
    queryKey: ["orders", "standing", id],
    queryFn: () => take(api.GET("/api/order-lines/{line_id}/standing", { params: { path: { line_id: id } } })),
  });
/** Long work: asked for every second while something runs, else now and then, since others start it too. */
export const jobsQuery = queryOptions({
  queryKey: ["jobs"],
  queryFn: () => take(api.GET("/api/jobs")),
  refetchInterval: (query) =>
    query.state.data?.some((job) => job.state === "waiting" || job.state === "running") ? 1000 : 20_000,
});
/** How sure everything that is promised is together; drawn anew each time it is opened. */
export const riskQuery = queryOptions({
  queryKey: ["orders", "risk"],
  queryFn: () => take(api.GET("/api/risk")),
});
export const waitingQuery = queryOptions({
  queryKey: ["orders", "waiting"],
  queryFn: () => take(api.GET("/api/orders/waiting")),
});
/** What somebody asked for and nothing was promised of yet. */
export const questionsQuery = queryOptions({
  queryKey: ["questions"],
  queryFn: () => take(api.GET("/api/orders/questions")),
});
export const wordsQuery = queryOptions({
  queryKey: ["orders", "words"],
  queryFn: () => take(api.GET("/api/orders/words")),
});
export const toSowQuery = (before: string, also: string) =>
  queryOptions({
    queryKey: ["batches", "to sow", before, also],
    queryFn: () => take(api.GET("/api/sowing/cards", { params: { query: { before, also } } })),
  });
export const batchesQuery = (back: number) =>
  queryOptions({
    queryKey: ["batches", "rows", back],
    queryFn: () => take(api.GET("/api/batches", { params: { query: { back } } })),
  });
export const lotsQuery = queryOptions({ queryKey: ["lots"], queryFn: () => take(api.GET("/api/lots")) });
export const spokenQuery = queryOptions({
  queryKey: ["spoken"],
  queryFn: () => take(api.GET("/api/buying/spoken")),
});
/** What is due in so many days from today, and the notes that were written. */
export const deliveriesQuery = (days: number) =>
  queryOptions({
    queryKey: ["deliveries", days],
    queryFn: () => take(api.GET("/api/deliveries", { params: { query: { days } } })),
  });

/** What a levelling found; asked for every second until it is done. */
export const levellingQuery = (id: number) =>
  queryOptions({
    queryKey: ["batches", "levelling", id],
    queryFn: () => take(api.GET("/api/levelling/{job_id}", { params: { path: { job_id: id } } })),
    refetchInterval: (query) =>
      query.state.data?.state === "waiting" || query.state.data?.state === "running" ? 1000 : false,
  });

export const batchQuery = (id: Ref) =>
  queryOptions({
    queryKey: ["batch", id],
    queryFn: () => take(api.GET("/api/batches/{batch_id}", { params: { path: { batch_id: id } } })),
  });
export const lotQuery = (id: Ref) =>
  queryOptions({
    queryKey: ["lot", id],
    queryFn: () => take(api.GET("/api/lots/{lot_id}", { params: { path: { lot_id: id } } })),
  });
export const waitingForQuery = (id: Ref) =>
  queryOptions({
    queryKey: ["lot", id, "waiting"],
    queryFn: () => take(api.GET("/api/lots/{lot_id}/waiting", { params: { path: { lot_id: id } } })),
  });
export const requirementsQuery = (weeks: number) =>
  queryOptions({
    queryKey: ["requirements", weeks],
    queryFn: () => take(api.GET("/api/requirements", { params: { query: { weeks } } })),
    placeholderData: (old) => old,
  });
export const buyingQuery = (lead: number) =>
  queryOptions({
    queryKey: ["buying", lead],
    queryFn: () => take(api.GET("/api/buying", { params: { query: { lead_days: lead } } })),
    placeholderData: (old) => old,
  });
export const cardQuery = (id: Ref) =>
  queryOptions({
    queryKey: ["card", id],
    queryFn: () => take(api.GET("/api/batches/{batch_id}/card", { params: { path: { batch_id: id } } })),
  });
export const laterQuery = (before: string) =>
  queryOptions({
    queryKey: ["later", before],
    queryFn: () => take(api.GET("/api/sowing/later", { params: { query: { before } } })),
  });
export const benchCardQuery = (batch: Ref, stage: string) =>
  queryOptions({
    queryKey: ["bench-card", batch, stage],
    queryFn: () =>
      take(api.GET("/api/batches/{batch_id}/stages/{key}/card", { params: { path: { batch_id: batch, key: stage } } })),
  });
export const dressingsQuery = (batch: Ref) =>
  queryOptions({
    queryKey: ["dressings", batch],
    queryFn: () => take(api.GET("/api/batches/{batch_id}/dressings", { params: { path: { batch_id: batch } } })),
  });
export const waterQuery = (batch: Ref) =>
  queryOptions({
    queryKey: ["water", batch],
    queryFn: () => take(api.GET("/api/batches/{batch_id}/water", { params: { path: { batch_id: batch } } })),
  });
export const traysQuery = queryOptions({ queryKey: ["trays"], queryFn: () => take(api.GET("/api/trays")) });
export const runningQuery = queryOptions({
  queryKey: ["clocks"],
  queryFn: () => take(api.GET("/api/clocks")),
  refetchInterval: 60_000,
});
export const applicationsQuery = queryOptions({
  queryKey: ["applications"],
  queryFn: () => take(api.GET("/api/applications")),
});
export const treatmentsQuery = (lot: Ref) =>
  queryOptions({
    queryKey: ["treatments", lot],
    queryFn: () => take(api.GET("/api/lots/{lot_id}/treatments", { params: { path: { lot_id: lot } } })),
  });
export const mediaQuery = (older = false) =>
  queryOptions({
    queryKey: ["media", older],
    queryFn: () => take(api.GET("/api/media", { params: { query: { older } } })),
  });
export const mothersQuery = (older = false) =>
  queryOptions({
    queryKey: ["mothers", older],
    queryFn: () => take(api.GET("/api/mothers", { params: { query: { older } } })),
  });
export const motherPlansQuery = queryOptions({
  queryKey: ["mother-plans"],
  queryFn: () => take(api.GET("/api/mothers/plans")),
});
export const tubersQuery = (older = false) =>
  queryOptions({
    queryKey: ["tubers", older],
    queryFn: () => take(api.GET("/api/tubers", { params: { query: { older } } })),
  });
export const drawnQuery = (stack: number, limit: number) =>
  queryOptions({
    queryKey: ["tubers", "drawn", stack, limit],
    queryFn: () =>
      take(
        api.GET("/api/tubers/{stack_id}/drawn", {
          params: { path: { stack_id: String(stack) }, query: { limit_percent: limit } },
        }),
      ),
  });
export const raisingQuery = (crop: number) =>
  queryOptions({
    queryKey: ["mother-plans", "raising", crop],
    queryFn: () => take(api.GET("/api/mothers/raising", { params: { query: { crop_id: crop } } })),
  });
export const chainQuery = (batch: number, planted: string, rate: string) =>
  queryOptions({
    queryKey: ["card", batch, "chain", planted, rate],
    queryFn: () =>
      take(
        api.GET("/api/batches/{batch_id}/chain", { params: { path: { batch_id: batch }, query: { planted, rate } } }),
      ),
    placeholderData: (old) => old,
  });
export const settsQuery = (batch: number, typed: Record<string, string>) =>
  queryOptions({
    queryKey: ["card", batch, "setts", typed],
    queryFn: () =>
      take(api.GET("/api/batches/{batch_id}/setts", { params: { path: { batch_id: batch }, query: typed } })),
    placeholderData: (old) => old,
  });
export const standQuery = (batch: number, typed: Record<string, string>) =>
  queryOptions({
    queryKey: ["card", batch, "stand", typed],
    queryFn: () =>
      take(api.GET("/api/batches/{batch_id}/stand", { params: { path: { batch_id: batch }, query: typed } })),
    placeholderData: (old) => old,
  });
export const halvesQuery = (batch: number) =>
  queryOptions({
    queryKey: ["card", batch, "halves"],
    queryFn: () => take(api.GET("/api/batches/{batch_id}/halves", { params: { path: { batch_id: String(batch) } } })),
  });
export const pairsQuery = (batch: number, typed: Record<string, string>) =>
  queryOptions({
    queryKey: ["card", batch, "pairs", typed],
    queryFn: () =>
      take(api.GET("/api/batches/{batch_id}/pairs", { params: { path: { batch_id: String(batch) }, query: typed } })),
    placeholderData: (old) => old,
  });
export const trapsQuery = queryOptions({ queryKey: ["traps"], queryFn: () => take(api.GET("/api/traps")) });
export const feedsQuery = queryOptions({ queryKey: ["feeds"], queryFn: () => take(api.GET("/api/feeds")) });
export const tankQuery = ({ slug, ...query }: { slug: string; litres: string; ratio: string; source_ec: string }) =>
  queryOptions({
    queryKey: ["feeds", slug, query],
    queryFn: () => take(api.GET("/api/feeds/{slug}/tank", { params: { path: { slug }, query } })),
    placeholderData: (old) => old,
  });
export const machinesQuery = queryOptions({
  queryKey: ["machines"],
  queryFn: () => take(api.GET("/api/machines")),
});
export const calibrationQuery = (batch: number, machine: number) =>
  queryOptions({
    queryKey: ["calibration", batch, machine],
    queryFn: () =>
      take(
        api.GET("/api/batches/{batch_id}/calibration/{machine_id}", {
          params: { path: { batch_id: batch, machine_id: machine } },
        }),
      ),
  });
export const placesForQuery = (id: number, stage: string) =>
  queryOptions({
    queryKey: ["batches", id, "places", stage],
    queryFn: () =>
      take(api.GET("/api/batches/{batch_id}/places", { params: { path: { batch_id: id }, query: { stage } } })),
  });
export const boardQuery = (start: string, end: string) =>
  queryOptions({
    queryKey: ["board", start, end],
    queryFn: () => take(api.GET("/api/board", { params: { query: { start, end } } })),
    placeholderData: (old) => old,
  });
export const sumsQuery = (start: string, end: string) =>
  queryOptions({
    queryKey: ["board", "sums", start, end],
    queryFn: () => take(api.GET("/api/board/sums", { params: { query: { start, end } } })),
    placeholderData: (old) => old,
  });
export const dayQuery = (day: string, days: number) =>
  queryOptions({
    queryKey: ["day", day, days],
    queryFn: () => take(api.GET("/api/day", { params: { query: { day, days } } })),
    placeholderData: (old) => old,
  });
export const noteQuery = (id: Ref) =>
  queryOptions({
    queryKey: ["note", id],
    queryFn: () => take(api.GET("/api/deliveries/{delivery_id}", { params: { path: { delivery_id: id } } })),
  });

export const seedCropsQuery = queryOptions({
  queryKey: ["seedcrops"],
  queryFn: () => take(api.GET("/api/seed-crops")),
});
export const blockQuery = (id: Ref) =>
  queryOptions({
    queryKey: ["block", id],
    queryFn: () => take(api.GET("/api/seed-blocks/{block_id}", { params: { path: { block_id: id } } })),
  });
export const isolationQuery = (id: Ref) =>
  queryOptions({
    queryKey: ["isolation", id],
    queryFn: () => take(api.GET("/api/seed-blocks/{block_id}/isolation", { params: { path: { block_id: id } } })),
  });
export const inspectionQuery = (id: Ref) =>
  queryOptions({
    queryKey: ["inspection", id],
    queryFn: () => take(api.GET("/api/inspections/{inspection_id}", { params: { path: { inspection_id: id } } })),
  });
export const descentQuery = (id: Ref) =>
  queryOptions({
    queryKey: ["descent", id],
    queryFn: () => take(api.GET("/api/lots/{lot_id}/descent", { params: { path: { lot_id: id } } })),
  });
export const holdsQuery = (id: Ref) =>
  queryOptions({
    queryKey: ["holds", id],
    queryFn: () => take(api.GET("/api/lots/{lot_id}/holds", { params: { path: { lot_id: id } } })),
  });
export const wantingQuery = (id: Ref) =>
  queryOptions({
    queryKey: ["wanting", id],
    queryFn: () => take(api.GET("/api/lots/{lot_id}/field-wanting", { params: { path: { lot_id: id } } })),
  });

const RESTS: Record<string, string[]> = rests;

/** After anything was saved: whatever hangs on it is asked for again. What rests on which room is checked by the server's tests. */
export async function saved() {
  const rooms = takeTouched();
  await queryClient.invalidateQueries({
    predicate: ({ queryKey: [name] }) => {
      if (name === "session" || name === "library") return false;
      const on = RESTS[String(name)];
      return !rooms || rooms.has("accounts") || !on || on.some((room) => rooms.has(room));
    },
  });
}

/** After the library was changed; it hangs on nothing else, so other saves leave it alone. */
export const libraryChanged = <T>(answer: T): Promise<T> =>
  queryClient.invalidateQueries({ queryKey: ["library"] }).then(() => answer);
