import { queryOptions, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { queryClient } from "../../api/queries";
import { useSave } from "../../ui/hooks";
import { Faults } from "../../ui/parts";
import { QuickForm } from "../../ui/QuickForm";

const accountQuery = queryOptions({ queryKey: ["account"], queryFn: () => take(api.GET("/api/account")) });

/** One's own keys: the password, other devices, a second factor. */
export function Account() {
  const { data } = useQuery(accountQuery);
  const [said, setSaid] = useState("");
  const elsewhere = useSave(
    () => take(api.POST("/api/account/sign-out-elsewhere")),
    (done: Schemas["Done"]) => setSaid(done.message),
  );
  const done = async (answer: Schemas["Done"]) => {
    setSaid(answer.message);
    await queryClient.invalidateQueries({ queryKey: ["account"] });
    return answer;
  };
  return (
    <section className="grid max-w-md gap-2">
      <h2>Your way in</h2>
      {said ? <p role="status">{said}</p> : null}
      <details>
        <summary className="cursor-pointer">Change your password</summary>
        <QuickForm
          button="Change it"
          columns={1}
          fields={[
            { name: "password", label: "Password of now", type: "password", needed: true },
            { name: "fresh", label: "New password", type: "password", needed: true, hint: "at least ten characters" },
          ]}
          save={(values) =>
            take(
              api.POST("/api/account/password", {
                body: { password: values.password ?? "", fresh: values.fresh ?? "" },
              }),
            ).then(done)
          }
        />
      </details>
      <p>
        <button type="button" className="btn-link" onClick={() => elsewhere.mutate(undefined)}>
          Sign out on every other device
        </button>
      </p>
      <Faults error={elsewhere.error} />
      {data ? <Calendar path={data.calendar} done={done} /> : null}
      {data?.second ? <DropSecond done={done} /> : data ? <Second done={done} /> : null}
    </section>
  );
}

type Say = (answer: Schemas["Done"]) => Promise<Schemas["Done"]>;

/** The address from which a calendar on a phone or a desk reads what is to be done. */
function Calendar({ path, done }: { path: string; done: Say }) {
  const make = useSave(() => take(api.POST("/api/account/calendar")).then(done));
  const drop = useSave(() => take(api.POST("/api/account/calendar/drop")).then(done));
  const busy = make.isPending || drop.isPending;
  return (
    <div className="grid gap-1">
      {path ? (
        <>
          <p>Your calendar reads the tasks here, without signing in. Keep the address to yourself:</p>
          <code className="break-all">{`${window.location.origin}${path}`}</code>
          <p className="flex gap-4">
            <button type="button" className="btn-link" disabled={busy} onClick={() => make.mutate(undefined)}>
              Make another; this one ends
            </button>
            <button type="button" className="btn-link" disabled={busy} onClick={() => drop.mutate(undefined)}>
              End it
            </button>
          </p>
        </>
      ) : (
        <p>
          <button type="button" className="btn-link" disabled={busy} onClick={() => make.mutate(undefined)}>
            Show the tasks in your own calendar
          </button>
        </p>
      )}
      <Faults error={make.error ?? drop.error} />
    </div>
  );
}

function DropSecond({ done }: { done: Say }) {
  return (
    <details>
      <summary className="cursor-pointer">A second device is asked for its six digits. Do without it</summary>
      <QuickForm
        button="Do without it"
        columns={1}
        fields={[{ name: "password", label: "Password of now", type: "password", needed: true }]}
        save={(values) =>
          take(api.POST("/api/account/second/drop", { body: { password: values.password ?? "" } })).then(done)
        }
      />
    </details>
  );
}

function Second({ done }: { done: Say }) {
  const [offered, setOffered] = useState<Schemas["SecondOut"] | null>(null);
  const offer = useSave(() => take(api.POST("/api/account/second/offer")), setOffered);
  if (!offered)
    return (
      <p>
        <button type="button" className="btn-link" onClick={() => offer.mutate(undefined)}>
          Ask a second device for six digits when you sign in
        </button>
      </p>
    );
  return (
    <div className="grid gap-2 border-ink border-l-4 pl-3">
      <p>Let the device that makes codes read this, or type the letters into it. Then type what it shows.</p>
      <img
        alt="The secret for the device's camera"
        className="w-48 bg-panel"
        src={`data:image/svg+xml;utf8,${encodeURIComponent(offered.picture)}`}
      />
      <code className="break-all">{offered.secret.match(/.{4}/g)?.join(" ")}</code>
      <QuickForm
        button="Ask for it from now on"
        columns={1}
        fields={[
          { name: "code", label: "Six digits that it shows", needed: true, digits: true },
          { name: "password", label: "Password of now", type: "password", needed: true },
        ]}
        save={(values) =>
          take(
            api.POST("/api/account/second", {
              body: { secret: offered.secret, code: values.code ?? "", password: values.password ?? "" },
            }),
          ).then(done)
        }
      />
      <p className="note">If the device is lost, a manager lets you in without it under People.</p>
    </div>
  );
}
