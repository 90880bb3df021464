import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useEffect, useRef, useState } from "react";
import { api, type Schemas, take } from "../api/client";
import { jobsQuery, saved } from "../api/queries";
import { useSave } from "../ui/hooks";
import { Faults } from "../ui/parts";

type Job = Schemas["JobOut"];
const running = (job: Job) => job.state === "waiting" || job.state === "running";

/** Long work of the house, whoever started it: how far it is, stopping it, and how it ended until that was read. */
export function JobsBar() {
  const { data } = useQuery(jobsQuery);
  const [read, setRead] = useState<number[]>([]);
  const alive = data?.filter(running).length ?? 0;
  const before = useRef(0);
  useEffect(() => {
    // What a job changed is asked for again when it ends, here and with everybody else.
    if (before.current > alive) void saved();
    before.current = alive;
  }, [alive]);
  const seen = useRef<Set<number>>(new Set());
  for (const job of data ?? []) if (running(job)) seen.current.add(job.id);
  const shown = data?.filter((job) => running(job) || (seen.current.has(job.id) && !read.includes(job.id))) ?? [];
  if (!shown.length) return null;
  return (
    <section aria-label="Long work" aria-live="polite" className="noprint border-ink border-t bg-panel">
      {shown.map((job) => (
        <JobRow key={job.id} job={job} onRead={() => setRead([...read, job.id])} />
      ))}
    </section>
  );
}

function JobRow({ job, onRead }: { job: Job; onRead: () => void }) {
  const stop = useSave(() => take(api.POST("/api/jobs/{job_id}/stop", { params: { path: { job_id: job.id } } })));
  const alive = running(job);
  return (
    <div className="flex flex-wrap items-center gap-x-4 gap-y-1 border-hair border-b px-4 py-2">
      <p className="min-w-0 flex-1 basis-64">
        <b>{job.title}</b>
        {alive ? "" : `, ${job.state}`}. {job.words} {job.by ? <span className="note">started by {job.by}</span> : null}
      </p>
      {alive && job.total ? (
        <div
          role="progressbar"
          aria-label={job.title}
          aria-valuemin={0}
          aria-valuemax={job.total}
          aria-valuenow={job.done}
          className="h-2 w-40 border border-ink"
        >
          <div className="h-full bg-ink" style={{ width: `${(100 * job.done) / job.total}%` }} />
        </div>
      ) : null}
      <Faults error={stop.error} />
      {alive ? (
        job.may_stop ? (
          <button type="button" className="btn h-8" disabled={stop.isPending} onClick={() => stop.mutate(undefined)}>
            Stop
          </button>
        ) : null
      ) : (
        <>
          {job.kind === "batches.level" && job.state === "done" ? (
            <Link to="/batches" search={{ view: "board", level: String(job.id) }} onClick={onRead}>
              See the moves
            </Link>
          ) : null}
          <button type="button" className="btn-link" onClick={onRead}>
            Read
          </button>
        </>
      )}
    </div>
  );
}
