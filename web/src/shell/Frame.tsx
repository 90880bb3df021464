import { useIsFetching, useMutation, useQuery, useSuspenseQuery } from "@tanstack/react-query";
import { Link, Outlet, useNavigate, useRouterState } from "@tanstack/react-router";
import { Suspense, useEffect, useLayoutEffect, useRef, useState } from "react";
import { api, type Schemas, take } from "../api/client";
import { away } from "../api/once";
import { queryClient, seasonQuery, sessionQuery } from "../api/queries";
import { DayField } from "../ui/DayField";
import { Doubt } from "../ui/Doubt";
import { addDays, longDay } from "../ui/dates";
import { useMay } from "../ui/hooks";
import { Field, Pennant, Sheet } from "../ui/parts";
import { TakeBack, Undo } from "../ui/TakeBack";
import { ConsequencesBar } from "./ConsequencesBar";
import { COMMANDS, type Command, HANDS, ROOMS } from "./commands";
import { Find } from "./Find";
import { JobsBar } from "./JobsBar";
import { lettersOn, toggleSun, usePrefs } from "./prefs";
import { ProposalProvider } from "./proposal";
import { SeasonLine } from "./SeasonLine";
import { Signal } from "./Signal";
import { SpanProvider } from "./span";
import { useWorking, WorkingPanel, WorkingProvider } from "./working";

export function Frame() {
  return (
    <WorkingProvider>
      <ProposalProvider>
        <Inner />
      </ProposalProvider>
    </WorkingProvider>
  );
}

function useWidth() {
  const ref = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(1144);
  useLayoutEffect(() => {
    const element = ref.current;
    if (!element) return;
    const watch = new ResizeObserver(([entry]) => entry && setWidth(Math.round(entry.contentRect.width)));
    watch.observe(element);
    setWidth(element.clientWidth);
    return () => watch.disconnect();
  }, []);
  return { ref, width };
}

const OF_THE_FRAME = ["session", "season", "jobs"];

/** What somebody came for is fetched first; the frame around it asks once that is there, or after a while. */
function useRoomFirst(): boolean {
  const fetching = useIsFetching({ predicate: (query) => !OF_THE_FRAME.includes(String(query.queryKey[0])) });
  const underway = useRouterState({ select: (state) => state.isLoading });
  const [there, setThere] = useState(false);
  const quiet = !fetching && !underway;
  useEffect(() => {
    if (there) return;
    const wait = setTimeout(() => setThere(true), quiet ? 100 : 2000);
    return () => clearTimeout(wait);
  }, [there, quiet]);
  return there;
}

type Act = NonNullable<Command["act"]>;

function useActs(setHelp: (open: boolean) => void, setFind: (open: boolean) => void): (act: Act) => void {
  const { open, setOpen } = useWorking();
  return (act) =>
    ({ working: () => setOpen(!open), sun: toggleSun, help: () => setHelp(true), find: () => setFind(true) })[act]();
}

function useKeys(run: (act: Act) => void) {
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement;
      if (target.closest("input, textarea, select, [role=dialog]") || event.ctrlKey || event.metaKey || event.altKey)
        return;
      if (/^[a-z]$/i.test(event.key) && !lettersOn()) return;
      const command = COMMANDS.find((one) => one.key?.toLowerCase() === event.key.toLowerCase());
      if (command?.act) {
        event.preventDefault();
        run(command.act);
      }
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [run]);
}

function Inner() {
  const { data: now } = useSuspenseQuery(sessionQuery);
  // While somebody signs in again over the page, it stays as it was, with what was typed.
  const last = useRef(now);
  if (now.signed_in) last.current = now;
  const session = last.current;
  const { data: line } = useQuery({ ...seasonQuery, enabled: useRoomFirst() });
  useReadyForTheField(line);
  const { ref, width } = useWidth();
  const [help, setHelp] = useState(false);
  const [find, setFind] = useState(false);
  const run = useActs(setHelp, setFind);
  useKeys(run);
  const today = session.today ?? "2000-01-03";
  const season = line
    ? { start: line.start, end: line.end }
    : { start: addDays(today, -190), end: addDays(today, 356) };
  return (
    <div className="flex h-full flex-col lg:flex-row">
      <a href="#work" className="sr-only focus:not-sr-only focus:fixed focus:z-50 focus:bg-panel focus:p-2">
        Go to the work
      </a>
      <RoomsList line={line} onHelp={() => setHelp(true)} onFind={() => setFind(true)} />
      <div ref={ref} className="flex min-h-0 min-w-0 flex-1 flex-col">
        <SpanProvider key={today} today={today} season={season} width={width}>
          <TopLine session={session} line={line} />
          <Signal />
          <div className="noprint">{line ? <SeasonLine line={line} /> : <div className="h-[88px] bg-frame" />}</div>
          <div className="flex min-h-0 flex-1">
            <main id="work" tabIndex={-1} className="relative min-w-0 flex-1 overflow-auto outline-none">
              <Suspense fallback={<div className="p-4 text-ink3">Fetching …</div>}>
                <Outlet />
              </Suspense>
            </main>
            <WorkingPanel />
          </div>
          <Find open={find} onClose={() => setFind(false)} run={run} />
          <JobsBar />
          <ConsequencesBar />
        </SpanProvider>
      </div>
      <HandBar line={line} onHelp={() => setHelp(true)} onFind={() => setFind(true)} />
      <Keys open={help} onClose={() => setHelp(false)} />
      <svg width="0" height="0" className="absolute" aria-hidden="true">
        <pattern id="sun-stood" width={5} height={5} patternUnits="userSpaceOnUse">
          <rect width={5} height={5} className="fill-panel" />
          <rect width={1} height={5} className="fill-ink" />
        </pattern>
      </svg>
    </div>
  );
}

function RoomsList({
  line,
  onHelp,
  onFind,
}: {
  line: Schemas["SeasonLineOut"] | undefined;
  onHelp: () => void;
  onFind: () => void;
}) {
  const path = useRouterState({ select: (state) => state.location.pathname });
  const prefs = usePrefs();
  const { setOpen, open } = useWorking();
  const rooms = new Map(line?.rooms.map((room) => [room.room, room]));
  const strip = useRef<HTMLElement>(null);
  // On a phone the rooms are a strip: the one that is open stays in sight.
  useEffect(() => {
    const here = strip.current?.querySelector<HTMLElement>(`a[href^="/${path.split("/")[1]}"]`);
    if (here && strip.current) strip.current.scrollLeft = here.offsetLeft - 24;
  }, [path]);
  const week = line ? line.today : "";
  return (
    <nav
      ref={strip}
      aria-label="Rooms"
      className="noprint relative flex flex-none gap-1 overflow-x-auto border-rule border-b bg-frame lg:w-[8.5rem] lg:flex-col lg:overflow-visible lg:border-r lg:border-b-0"
    >
      <Link to="/" className="hidden h-[112px] flex-none px-5 pt-2 text-h1 font-bold no-underline lg:block">
        Aldrip
      </Link>
      {ROOMS.map(([slug, name]) => {
        const room = rooms.get(slug);
        const here = path.startsWith(`/${slug}`);
        const urgent = line?.decisions.some((d) => d.room === slug && d.by && d.by <= addDays(week, 6));
        return (
          <Link
            key={slug}
            to={`/${slug}`}
            aria-current={here ? "page" : undefined}
            className={`block flex-none px-3 py-1 no-underline lg:h-12 lg:pr-1.5 lg:pl-5 ${here ? "bg-paper shadow-none lg:border-ink lg:border-l-4 lg:pl-4" : ""}`}
          >
            <span className="flex items-center justify-between gap-1 whitespace-nowrap text-room font-medium">
              {name}
              {room?.waiting ? (
                <>
                  <Pennant later={!urgent}>{room.waiting}</Pennant>
                  <span className="sr-only">decisions wait</span>
                </>
              ) : null}
            </span>
            <span className="note hidden truncate lg:block">{room?.line ?? " "}</span>
          </Link>
        );
      })}
      <div className="hidden flex-1 lg:block" />
      <div className="hidden gap-1 px-5 pb-3 lg:grid">
        <KeyButton mark="/" words="Find" onClick={onFind} />
        <KeyButton mark="W" words="Working" onClick={() => setOpen(!open)} />
        <KeyButton mark="S" words={prefs.sun ? "Sun mode off" : "Sun mode"} onClick={toggleSun} />
        <KeyButton mark="?" words="Keys" onClick={onHelp} />
        <label className="note flex items-center gap-1">
          Text
          <select
            className="border border-ink3 bg-panel text-ink"
            value={prefs.size}
            onChange={(event) => prefs.setSize(event.target.value as "100")}
          >
            <option value="100">100 %</option>
            <option value="112">112 %</option>
            <option value="125">125 %</option>
          </select>
        </label>
      </div>
    </nav>
  );
}

/** What a hand needs on a phone or a tablet, at the bottom where the thumb is. */
function HandBar({
  line,
  onHelp,
  onFind,
}: {
  line: Schemas["SeasonLineOut"] | undefined;
  onHelp: () => void;
  onFind: () => void;
}) {
  const prefs = usePrefs();
  const may = useMay();
  const { setOpen, open } = useWorking();
  const button = "min-h-11 flex-1 border-rule border-r px-2 font-medium last:border-r-0";
  const last = line?.last;
  return (
    <aside className="noprint flex flex-none border-rule border-t bg-frame lg:hidden" aria-label="At hand">
      <button type="button" className={button} onClick={onFind}>
        Find
      </button>
      <button type="button" className={button} aria-pressed={open} onClick={() => setOpen(!open)}>
        Working
      </button>
      <button type="button" className={button} aria-pressed={prefs.sun} onClick={toggleSun}>
        Sun
      </button>
      <button type="button" className={button} onClick={onHelp}>
        Keys
      </button>
      {last?.can_undo && may("batches.plan") ? (
        <span className={`${button} grid place-items-center`} title={last.sentence}>
          <Undo id={last.id} />
        </span>
      ) : last?.can_take_back ? (
        <span className={`${button} grid place-items-center`} title={last.sentence}>
          <TakeBack id={last.id} />
        </span>
      ) : null}
    </aside>
  );
}

function KeyButton({ mark, words, onClick }: { mark: string; words: string; onClick: () => void }) {
  return (
    <button type="button" className="flex gap-2 text-left" onClick={onClick}>
      <kbd className="cond w-3 border-ink border-b text-center text-note">{mark}</kbd> {words}
    </button>
  );
}

/** What is needed where there is no signal is fetched while there is one: the sheets, and the visits that are due. */
function useReadyForTheField(line: Schemas["SeasonLineOut"] | undefined) {
  const visits = (line?.decisions ?? [])
    .flatMap((one) => /^\/seedcrops\/inspections\/(\d+)/.exec(one.link)?.[1] ?? [])
    .join();
  useEffect(() => {
    if (!navigator.serviceWorker?.controller || away()) return;
    const later = window.setTimeout(() => {
      void Promise.all([
        import("../rooms/diary/Diary"),
        import("../rooms/batches/Ladder"),
        import("../rooms/seedcrops/Inspection"),
      ]).catch(() => undefined);
      for (const id of visits.split(",").filter(Boolean).slice(0, 12))
        void fetch(`/api/inspections/${id}`).catch(() => undefined);
    }, 5000);
    return () => window.clearTimeout(later);
  }, [visits]);
}

/** The first who opens Aldrip on a day lets what is overdue be reckoned from it. */
function useNewDay(session: Schemas["SessionOut"]) {
  const { new_day: fresh, today } = session;
  useEffect(() => {
    if (fresh && today)
      void take(api.POST("/api/new-day")).then(
        () => queryClient.invalidateQueries(),
        () => undefined,
      );
  }, [fresh, today]);
}

function TopLine({ session, line }: { session: Schemas["SessionOut"]; line: Schemas["SeasonLineOut"] | undefined }) {
  const [clock, setClock] = useState(false);
  const organisation = session.organisation;
  useNewDay(session);
  const signOut = useMutation({
    mutationFn: () => take(api.DELETE("/api/session")),
    onSuccess: () => {
      queryClient.clear();
      sessionStorage.clear(); // what was begun and not saved is this person's alone
      localStorage.removeItem("aldrip.person");
      if ("caches" in window) void caches.delete("aldrip-data");
      window.location.href = "/";
    },
  });
  const may = (action: string) => session.may.includes(action);
  return (
    <header className="noprint flex min-h-6 flex-none flex-wrap items-center gap-x-5 bg-frame px-1 text-body">
      <b>{organisation?.name}</b>
      {organisation?.practice_date ? (
        <span>
          Practice clock <b>{session.today ? longDay(session.today) : ""}</b>{" "}
          {may("clock.advance") ? (
            <button type="button" className="btn-link" onClick={() => setClock(true)}>
              advance
            </button>
          ) : null}
        </span>
      ) : (
        <b>{session.today ? longDay(session.today) : ""}</b>
      )}
      <span className="flex-1" />
      {line?.last ? (
        <span className="hidden max-w-[360px] truncate text-ink2 lg:inline">
          Last: {line.last.sentence}{" "}
          {line.last.can_undo && may("batches.plan") ? (
            <Undo id={line.last.id} />
          ) : line.last.can_take_back ? (
            <TakeBack id={line.last.id} />
          ) : null}
        </span>
      ) : null}
      <Link to="/house">{session.full_name}</Link>
      <button type="button" className="btn-link" onClick={() => signOut.mutate()}>
        Sign out
      </button>
      <Doubt />
      <Clock open={clock} onClose={() => setClock(false)} today={session.today ?? ""} />
    </header>
  );
}

function Clock({ open, onClose, today }: { open: boolean; onClose: () => void; today: string }) {
  const [to, setTo] = useState("");
  const advance = useMutation({
    mutationFn: (day: string) => take(api.POST("/api/practice-clock", { body: { to: day } })),
    onSuccess: async () => {
      onClose();
      await queryClient.invalidateQueries();
    },
  });
  return (
    <Sheet open={open} onClose={onClose} title="Advance the practice clock">
      <form
        className="grid gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          advance.mutate(to || addDays(today, 1));
        }}
      >
        <p className="text-ink2">The clock only moves forward. What was due meanwhile waits in the diary.</p>
        <Field label="To the day" fault={advance.error?.message}>
          <DayField min={addDays(today, 1)} value={to || addDays(today, 1)} onChange={setTo} />
        </Field>
        <button type="submit" className="btn w-fit">
          Advance
        </button>
      </form>
    </Sheet>
  );
}

function Keys({ open, onClose }: { open: boolean; onClose: () => void }) {
  const navigate = useNavigate();
  const prefs = usePrefs();
  const rows = [...COMMANDS.flatMap((one) => (one.key ? [[one.key, one.words]] : [])), ...HANDS];
  return (
    <Sheet open={open} onClose={onClose} title="Keys">
      <table className="tbl">
        <tbody>
          {rows.map(([key, words]) => (
            <tr key={key}>
              <td className="whitespace-nowrap font-semibold">{key}</td>
              <td>{words}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <label className="mt-3 flex items-center gap-2">
        <input type="checkbox" checked={prefs.letters} onChange={(event) => prefs.setLetters(event.target.checked)} />
        Keys of one letter work on this device (W and S)
      </label>
      <label className="mt-3 flex items-center gap-2">
        Size of text
        <select
          className="input !w-auto"
          value={prefs.size}
          onChange={(event) => prefs.setSize(event.target.value as "100")}
        >
          <option value="100">100 %</option>
          <option value="112">112 %</option>
          <option value="125">125 %</option>
        </select>
      </label>
      <button type="button" className="btn mt-4 w-fit" onClick={() => [onClose(), navigate({ to: "/house" })]}>
        House rules, people, what was done
      </button>
    </Sheet>
  );
}
