import { queryOptions, useQuery } from "@tanstack/react-query";
import { api, take } from "../../api/client";
import { queryClient } from "../../api/queries";
import { count } from "../../ui/format";
import { useSave } from "../../ui/hooks";
import { Faults } from "../../ui/parts";

const backupsQuery = queryOptions({
  queryKey: ["backups"],
  queryFn: () => take(api.GET("/api/backups")),
  refetchInterval: (query) => (query.state.data?.asked ? 2000 : false),
});

const when = (at: string) =>
  new Date(at).toLocaleString("en-GB", { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" });

/** What the house can fall back on: the last good backup, how old, where; taken and verified by itself every day. */
export function Backups() {
  const { data } = useQuery(backupsQuery);
  const ask = useSave(
    () => take(api.POST("/api/backups")),
    () => queryClient.invalidateQueries({ queryKey: ["backups"] }),
  );
  if (!data) return null;
  if (!data.taken_here)
    return (
      <section>
        <h2>Backups</h2>
        <p className="note">None are taken here: this is the demo, or Aldrip was started in another way.</p>
      </section>
    );
  return (
    <section className="grid gap-2">
      <h2>Backups</h2>
      <p className={data.old ? "font-semibold text-decide" : ""}>
        {data.newest
          ? `The last good one is of ${when(data.newest)}${data.old ? ", more than two days ago" : ""}.`
          : "There is no good backup yet."}{" "}
        One is taken every day, restored to see that it is good, and kept in{" "}
        <code className="break-all">{data.where}</code>.
      </p>
      {data.failed ? <p className="text-decide">The last try failed: {data.failed}</p> : null}
      <table className="tbl max-w-lg">
        <thead>
          <tr>
            <th>Taken</th>
            <th>Why</th>
            <th className="num">Rows restored</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {data.rows
            .filter((row) => !row.words)
            .map((row) => (
              <tr key={row.file}>
                <td>{when(row.at)}</td>
                <td>{row.why}</td>
                <td className="num">{count(row.rows)}</td>
                <td>
                  <a href={`/api/backups/${row.file}`} download>
                    {(row.bytes / 1_000_000).toFixed(1)} MB
                  </a>
                </td>
              </tr>
            ))}
        </tbody>
      </table>
      <p>
        <button
          type="button"
          className="btn"
          disabled={data.asked || ask.isPending}
          onClick={() => ask.mutate(undefined)}
        >
          {data.asked ? "One is being taken" : "Take one now"}
        </button>
      </p>
      <Faults error={ask.error} />
      <p className="note">
        Keep a copy on another machine as well: a backup beside the nursery burns with it. <code>./aldrip restore</code>{" "}
        puts one back.
      </p>
    </section>
  );
}
