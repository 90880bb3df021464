import { queryOptions, useQuery, useSuspenseQuery } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError, api, type Schemas, take } from "../../api/client";
import { closedQuery, membersQuery, queryClient, sessionQuery } from "../../api/queries";
import { BringIn } from "../../shell/BringIn";
import { Days } from "../../shell/FirstRun";
import { useSpan } from "../../shell/span";
import { AskField, AskForm } from "../../ui/AskForm";
import { addDays, fullDay } from "../../ui/dates";
import { useMay, useSave } from "../../ui/hooks";
import { Faults, Field, RoomHead, Sheet } from "../../ui/parts";
import { QuickForm } from "../../ui/QuickForm";
import { DoneRows } from "../../ui/TakeBack";
import { useAsk } from "../../ui/useAsk";
import { Account } from "./Account";
import { Backups } from "./Backups";

const rolesQuery = queryOptions({ queryKey: ["roles"], queryFn: () => take(api.GET("/api/roles")) });
const auditQuery = queryOptions({
  queryKey: ["audit"],
  queryFn: () => take(api.GET("/api/audit", { params: { query: { limit: 200 } } })),
});

/** House rules, people, what was done. */
export function House() {
  const { data: session } = useSuspenseQuery(sessionQuery);
  const may = useMay();
  const role = session.role;
  return (
    <div className="px-4 pb-6">
      <RoomHead title="The house" note={`${session.full_name}, ${role}`} />
      <div className="grid grid-cols-1 gap-8 lg:grid-cols-2">
        <div className="grid content-start gap-8">
          <Account />
          {may("accounts.manage") && session.organisation ? <Rules organisation={session.organisation} /> : null}
          {may("accounts.manage") ? <ClosedDays /> : null}
          {may("accounts.manage") ? <People /> : null}
          {may("accounts.manage") ? <Backups /> : null}
          {may("accounts.manage") ? <TakeOut /> : null}
        </div>
        {may("accounts.audit") ? <Audit /> : <p>What was done is shown to managers and supervisors.</p>}
      </div>
    </div>
  );
}

function Rules({ organisation }: { organisation: Schemas["OrganisationOut"] }) {
  const start = {
    name: organisation.name,
    chance_wanted: String(Math.round(organisation.chance_wanted * 1000) / 10),
    safety_days: String(organisation.safety_days),
    hours_week: organisation.hours_week ? String(organisation.hours_week) : "",
    timezone: organisation.timezone,
    part_trays: organisation.part_trays ? "yes" : "",
    two_pairs: organisation.two_pairs ? "yes" : "",
  };
  const [working, setWorking] = useState(organisation.working_days);
  const [sowing, setSowing] = useState(organisation.sowing_days);
  const ask = useAsk({
    start,
    again: false,
    save: ({ part_trays, two_pairs, hours_week, ...typed }: typeof start) =>
      take(
        api.PATCH("/api/organisation", {
          body: {
            ...typed,
            hours_week: hours_week.trim() || "0",
            part_trays: part_trays === "yes",
            two_pairs: two_pairs === "yes",
            working_days: working,
            sowing_days: sowing,
          },
        }),
      ),
    onDone: () => queryClient.invalidateQueries({ queryKey: ["session"] }),
  });
  return (
    <AskForm ask={ask} button="Save">
      <h2>House rules</h2>
      <AskField ask={ask} name="name" label="Name" />
      <div className="grid grid-cols-3 gap-3">
        <AskField ask={ask} name="chance_wanted" label="Chance wanted, %" digits />
        <AskField ask={ask} name="safety_days" label="Days in hand" hint="ready before it is due" digits />
        <AskField ask={ask} name="timezone" label="Time zone" />
        <AskField ask={ask} name="hours_week" label="Hours of work a week" hint="of all people together" digits />
      </div>
      <Days label="People work on" value={working} onChange={setWorking} />
      <Days label="Sowing is done on" value={sowing} onChange={setSowing} />
      <AskField
        ask={ask}
        name="part_trays"
        type="check"
        label="Trays may be sown in part"
        hint="the rest of a tray takes another crop"
      />
      <AskField
        ask={ask}
        name="two_pairs"
        type="check"
        label="Two pairs of eyes at release"
        hint="whoever entered a result of a lot does not release it"
      />
      {ask.saved ? <p role="status">Saved. New plans follow these rules.</p> : null}
    </AskForm>
  );
}

interface Closed {
  day: string;
  until: string;
  name: string;
}

/** Closed days on end, of one name, as one. */
function runs(days: { day: string; name: string }[]): Closed[] {
  const found: Closed[] = [];
  for (const { day, name } of days) {
    const last = found.at(-1);
    if (last && last.name === name && addDays(last.until, 1) === day) last.until = day;
    else found.push({ day, until: day, name });
  }
  return found;
}

/** Days on which nobody works: what is planned from now on keeps clear of them. */
function ClosedDays() {
  const { data: days } = useQuery(closedQuery);
  const { today } = useSpan();
  const refresh = () => queryClient.invalidateQueries({ queryKey: ["closed"] });
  const open = useSave(
    ({ day, until }: Closed) => take(api.POST("/api/closed-days", { body: { day, name: "", closed: false, until } })),
    refresh,
  );
  const coming = runs((days ?? []).filter((one) => one.day >= today));
  return (
    <section>
      <h2>Closed days</h2>
      <table className="tbl max-w-md">
        <tbody>
          {coming.map((one) => (
            <tr key={one.day}>
              <td>
                {fullDay(one.day)}
                {one.until === one.day ? "" : ` to ${fullDay(one.until)}`}
              </td>
              <td>{one.name}</td>
              <td>
                <button type="button" className="btn-link" onClick={() => open.mutate(one)}>
                  open again<span className="sr-only"> on {one.day}</span>
                </button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {coming.length ? null : <p className="note">None to come. Holidays belong here.</p>}
      <Faults error={open.error} />
      <div className="mt-2 max-w-md">
        <QuickForm
          button="Close"
          fields={[
            { name: "day", label: "From", type: "date", needed: true },
            { name: "until", label: "to, where it is more than a day", type: "date" },
            { name: "name", label: "What it is" },
          ]}
          save={(values) =>
            take(
              api.POST("/api/closed-days", {
                body: { day: values.day ?? "", until: values.until || null, name: values.name ?? "", closed: true },
              }),
            ).then((answer) => refresh().then(() => answer))
          }
        />
      </div>
      <p className="note">Nothing is sown, moved or graded on them. What is planned already stays as it is.</p>
    </section>
  );
}

function TakeOut() {
  return (
    <section className="grid gap-2">
      <h2>Take everything out</h2>
      <p>
        <a href="/api/archive" download>
          Everything of this nursery as one file
        </a>
        : tables that any program opens, and that any Aldrip brings in again. It holds no passwords; keep it as you keep
        your books.
      </p>
      <BringIn first={false} />
    </section>
  );
}

function People() {
  const { data: members } = useQuery(membersQuery);
  const { data: roles } = useQuery(rolesQuery);
  const [form, setForm] = useState({ username: "", full_name: "", password: "", role: "supervisor" });
  const refresh = () => queryClient.invalidateQueries({ queryKey: ["members"] });
  const add = useSave(
    () => take(api.POST("/api/members", { body: form })),
    () => {
      setForm({ ...form, username: "", full_name: "", password: "" });
      refresh();
    },
  );
  const change = useSave(
    (given: { id: number; role?: string; active?: boolean }) =>
      take(
        api.PATCH("/api/members/{member_id}", {
          params: { path: { member_id: given.id } },
          body: { role: given.role ?? null, active: given.active ?? null },
        }),
      ),
    refresh,
  );
  const error = add.error instanceof ApiError ? add.error : null;
  return (
    <section>
      <h2>People</h2>
      <table className="tbl">
        <tbody>
          {members?.map((member) => (
            <tr key={member.id}>
              <td>
                <b>{member.full_name || member.username}</b> <span className="note">{member.username}</span>
              </td>
              <td>
                <select
                  className="input !w-32"
                  aria-label={`Role of ${member.username}`}
                  value={member.role}
                  onChange={(e) => change.mutate({ id: member.id, role: e.target.value })}
                >
                  {roles?.map((role) => (
                    <option key={role.value} value={role.value}>
                      {role.label}
                    </option>
                  ))}
                </select>
              </td>
              <td>
                <label className="flex items-center gap-1">
                  <input
                    type="checkbox"
                    checked={member.active}
                    onChange={(e) => change.mutate({ id: member.id, active: e.target.checked })}
                  />{" "}
                  may enter
                </label>
              </td>
              <td>
                <Keys member={member} onDone={refresh} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Faults error={change.error} />
      <form
        className="mt-3 grid gap-3 sm:grid-cols-2"
        onSubmit={(event) => {
          event.preventDefault();
          add.mutate(undefined);
        }}
      >
        <Field label="Name">
          <input
            className="input"
            value={form.full_name}
            onChange={(e) => setForm({ ...form, full_name: e.target.value })}
          />
        </Field>
        <Field label="Signs in as" fault={error?.of("username")}>
          <input
            className="input"
            value={form.username}
            onChange={(e) => setForm({ ...form, username: e.target.value })}
            required
          />
        </Field>
        <Field label="First password" fault={error?.of("password")}>
          <input
            className="input"
            type="password"
            autoComplete="new-password"
            value={form.password}
            onChange={(e) => setForm({ ...form, password: e.target.value })}
            required
          />
        </Field>
        <Field label="Role">
          <select className="input" value={form.role} onChange={(e) => setForm({ ...form, role: e.target.value })}>
            {roles?.map((role) => (
              <option key={role.value} value={role.value}>
                {role.label}
              </option>
            ))}
          </select>
        </Field>
        <Faults error={add.error} fields={["username", "password"]} />
        <button type="submit" className="btn w-fit">
          Add
        </button>
      </form>
    </section>
  );
}

/** What a manager does for somebody who stands before the door. */
function Keys({ member, onDone }: { member: Schemas["MemberOut"]; onDone: () => unknown }) {
  const [link, setLink] = useState<Schemas["LinkOut"] | null>(null);
  const [said, setSaid] = useState("");
  const params = { params: { path: { member_id: member.id } } };
  const told = (answer: Schemas["Done"]) => {
    setSaid(answer.message);
    return onDone();
  };
  const give = useSave(() => take(api.POST("/api/members/{member_id}/link", params)), setLink);
  const unlock = useSave(() => take(api.POST("/api/members/{member_id}/unlock", params)), told);
  const out = useSave(() => take(api.POST("/api/members/{member_id}/sign-out", params)), told);
  const second = useSave(() => take(api.POST("/api/members/{member_id}/second/drop", params)), told);
  return (
    <details>
      <summary className="cursor-pointer whitespace-nowrap">
        {member.locked ? <b className="text-decide">locked</b> : "keys"}
        <span className="sr-only"> of {member.username}</span>
      </summary>
      <div className="grid justify-items-start gap-1 py-1">
        <button type="button" className="btn-link" onClick={() => give.mutate(undefined)}>
          Link to set a password
        </button>
        {member.locked ? (
          <button type="button" className="btn-link" onClick={() => unlock.mutate(undefined)}>
            Unlock
          </button>
        ) : null}
        <button type="button" className="btn-link" onClick={() => out.mutate(undefined)}>
          Sign out everywhere
        </button>
        {member.second ? (
          <button type="button" className="btn-link" onClick={() => second.mutate(undefined)}>
            Do without the second device
          </button>
        ) : null}
        {said ? <p role="status">{said}</p> : null}
        <Faults error={give.error ?? unlock.error ?? out.error ?? second.error} />
      </div>
      {link ? (
        <Sheet open title={`Link for ${link.full_name}`} onClose={() => setLink(null)}>
          <p>
            Whoever opens it sets the password of <b>{link.username}</b>. It opens once, and for a day. Show it, or
            print it.
          </p>
          <img
            alt="The link for a phone's camera"
            className="w-56 bg-panel"
            src={`data:image/svg+xml;utf8,${encodeURIComponent(link.picture)}`}
          />
          <p className="break-all">
            <code>
              {window.location.origin}
              {link.path}
            </code>
          </p>
          <button type="button" className="btn noprint w-fit" onClick={() => window.print()}>
            Print
          </button>
        </Sheet>
      ) : null}
    </details>
  );
}

const SOME = 20;

function Audit() {
  const { data = [] } = useQuery(auditQuery);
  const [many, setMany] = useState(SOME);
  return (
    <section aria-label="What was done">
      <h2>What was done</h2>
      <DoneRows rows={data.slice(0, many)} empty="Nothing yet." />
      {data.length > many ? (
        <button type="button" className="btn-link mt-2" onClick={() => setMany(many + 100)}>
          show more
        </button>
      ) : null}
    </section>
  );
}
