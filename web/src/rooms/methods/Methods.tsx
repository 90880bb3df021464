import { useSuspenseQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { formsQuery, libraryChanged, libraryQuery, rowQuery, rowsQuery, sessionQuery } from "../../api/queries";
import { few } from "../../ui/format";
import { useAddress, useMay, useSave } from "../../ui/hooks";
import { Faults, RoomHead } from "../../ui/parts";
import { KEPT } from "../orders/kept";
import { blankOf } from "./AskedFields";
import { Editions, Retire } from "./Editions";
import { MethodView } from "./MethodView";
import { RowForm } from "./RowForm";
import { RowView } from "./RowView";
import { Schools } from "./Schools";
import { SeedLibrary } from "./SeedLibrary";
import { YamlIn } from "./YamlIn";

type Row = Schemas["LibraryRowOut"];

/** The kinds of library row, in the order in which a grower fills them. */
const KINDS: [kind: string, words: string, one: string][] = [
  ["method", "Methods", "method"],
  ["crop", "Crops", "crop"],
  ["line", "Cultivars and lines", "cultivar or line"],
  ["container", "Containers", "container"],
  ["mix", "Mixes", "mix"],
  ["input", "Inputs", "input"],
  ["treatment", "Treatments", "treatment"],
  ["recipe", "Feeds", "feed"],
  ["standard", "Standards", "standard"],
  ["class_scheme", "Classes of seed", "scheme"],
  ["isolation_rule", "Isolation distances", "distance"],
];
interface More {
  row?: string;
  act?: string;
  crop?: string;
}
const address = (kind: string, more: More = {}) => ({ to: "/methods", search: { kind, ...more } }) as const;

/** The library: what is raised how, every value with its source; the house's own rows stand over what ships. */
const SOME = 20; // rows at the side, until somebody asks for all of them

export function Methods() {
  const { data: rows } = useSuspenseQuery(rowsQuery);
  const { kind = "method", row, act = "", name = "", crop = "" } = useAddress();
  const [, words, one] = KINDS.find(([key]) => key === kind) ?? (["method", "Methods", "method"] as const);
  const [wanted, setWanted] = useState("");
  const [retired, setRetired] = useState(false);
  const [everything, setEverything] = useState(false);
  const may = useMay();
  const all = rows.filter((other) => other.kind === kind);
  const cropName = new Map(rows.filter((other) => other.kind === "crop").map((other) => [other.slug, other.name]));
  const called = all.filter(
    (other) =>
      (retired || !other.retired || other.slug === row) &&
      `${other.name} ${cropName.get(other.crop) ?? ""}`.toLowerCase().includes(wanted.toLowerCase()),
  );
  // What the house raises comes first; what is asked for by name is found wherever it is.
  const own = called.filter((other) => other.raised || other.slug === row);
  const shown = everything || (wanted && !own.length) ? called : own;
  const others = all.filter((other) => !other.raised && !other.retired).length;
  const chosen = act === "new" || act === "yaml" ? undefined : (all.find((other) => other.slug === row) ?? shown[0]);
  const [whole, setWhole] = useState(false);
  const some = shown.slice(0, SOME);
  const listed = whole || !chosen || some.includes(chosen) ? (whole ? shown : some) : [chosen, ...some];
  return (
    <div className="px-4 pb-6">
      <RoomHead
        title="Methods"
        note={`${few(all.filter((other) => !other.retired).length, one, words.toLowerCase())}; yours stand over what ships`}
      >
        {may("methods.edit") ? (
          <>
            <Link {...address(kind, { act: "yaml" })}>Bring in YAML</Link>
            <Link className="btn" {...address(kind, { act: "new" })}>
              Add {/^[aeiou]/.test(one) ? "an" : "a"} {one}
            </Link>
          </>
        ) : null}
      </RoomHead>
      {sessionStorage.getItem(KEPT) ? (
        <p className="mb-2 border-ink border-l-4 pl-3">
          Orders wait to be brought in. <Link to="/orders/import">Go on with them</Link>
        </p>
      ) : null}
      <nav aria-label="Kinds" className="flex flex-wrap gap-x-5 gap-y-1 border-rule border-b pb-2">
        {KINDS.map(([key, label]) => (
          <Link
            key={key}
            {...address(key)}
            aria-current={key === kind ? "page" : undefined}
            className={key === kind ? "border-ink border-b-2 font-semibold no-underline" : ""}
          >
            {label}
          </Link>
        ))}
      </nav>
      <div className="mt-3 grid gap-6 lg:grid-cols-[240px_1fr]">
        <nav aria-label={words} className={act ? "hidden lg:block" : ""}>
          <input
            className="input mb-2"
            aria-label={`Find among ${words.toLowerCase()}`}
            placeholder="find"
            value={wanted}
            onChange={(event) => setWanted(event.target.value)}
          />
          <div>
            {listed.map((other) => (
              <Link
                key={other.slug}
                {...address(kind, { row: other.slug })}
                aria-current={other.slug === chosen?.slug}
                className={`block w-full border-hair border-b py-1.5 text-left no-underline ${other.slug === chosen?.slug ? "border-l-4 border-l-ink bg-panel pl-2 font-semibold" : ""}`}
              >
                {other.name}
                {kind !== "crop" && kind !== "method" && other.crop ? (
                  <span className="note"> {cropName.get(other.crop)}</span>
                ) : null}
                {other.said ? <span className="note"> {other.said}</span> : null}
                {other.own ? <span className="note"> own</span> : null}
                {other.retired ? <span className="note"> retired</span> : null}
              </Link>
            ))}
            {shown.length ? null : <p className="note py-2">None is called so.</p>}
            {shown.length > SOME ? (
              <button type="button" className="btn-link mt-2" onClick={() => setWhole(!whole)}>
                {whole ? "show fewer" : `show all ${shown.length}`}
              </button>
            ) : null}
          </div>
          {others ? (
            <label className="note mt-2 flex items-center gap-1">
              <input type="checkbox" checked={everything} onChange={(event) => setEverything(event.target.checked)} />
              {few(others, "other")} that {others === 1 ? "ships" : "ship"} too
            </label>
          ) : null}
          {all.some((other) => other.retired) ? (
            <label className="note mt-2 flex items-center gap-1">
              <input type="checkbox" checked={retired} onChange={(event) => setRetired(event.target.checked)} />
              retired ones too
            </label>
          ) : null}
        </nav>
        {act === "yaml" ? (
          <YamlIn />
        ) : act === "new" ? (
          <NewRow key={`${kind} ${name}`} kind={kind} one={one} name={name} crop={crop} />
        ) : chosen ? (
          <OneRow key={`${kind} ${chosen.slug} ${act}`} row={chosen} act={act} one={one} />
        ) : null}
      </div>
    </div>
  );
}

function useTurn() {
  const navigate = useNavigate();
  return (kind: string, more: More = {}) => navigate(address(kind, more));
}

function NewRow({ kind, one, name, crop }: { kind: string; one: string; name: string; crop: string }) {
  const { data: forms } = useSuspenseQuery(formsQuery);
  const turn = useTurn();
  const asked = forms[kind] ?? [];
  const known = Object.fromEntries(Object.entries({ name, crop }).filter(([key, text]) => text && key !== ""));
  const names = new Set(asked.map((field) => field.name));
  const start = { ...blankOf(asked), ...Object.fromEntries(Object.entries(known).filter(([key]) => names.has(key))) };
  return (
    <article>
      <h2 className="mb-2">A new {one}</h2>
      {kind === "method" ? <StartFrom crop={crop} /> : null}
      <RowForm
        kind={kind}
        asked={asked}
        slug=""
        like=""
        start={start}
        onDone={(made) => turn(kind, { row: made.slug })}
        onDrop={() => turn(kind)}
      />
    </article>
  );
}

/** Most methods are another one with a few figures changed. */
function StartFrom({ crop }: { crop: string }) {
  const { data: rows } = useSuspenseQuery(rowsQuery);
  const turn = useTurn();
  const methods = rows.filter((row) => row.kind === "method" && !row.retired);
  return (
    <label className="mb-4 flex flex-wrap items-center gap-2">
      <span>Begin with the stages of</span>
      <select
        className="input w-72"
        value=""
        onChange={(event) => turn("method", { row: event.target.value, act: "copy", ...(crop ? { crop } : {}) })}
      >
        <option value="">none: write every stage</option>
        {methods.map((row) => (
          <option key={row.slug} value={row.slug}>
            {row.name}
          </option>
        ))}
      </select>
    </label>
  );
}

/** Whether the house raises a crop that ships: its methods then stand first. */
function Raise({ row }: { row: Row }) {
  const save = useSave(() =>
    take(api.POST("/api/library/raised", { body: { crop: row.slug, raised: !row.raised } })).then(libraryChanged),
  );
  const { data: session } = useSuspenseQuery(sessionQuery);
  if (!session.organisation?.raises.length) return null;
  return (
    <>
      <button type="button" className="btn-link" disabled={save.isPending} onClick={() => save.mutate(undefined)}>
        {row.raised ? "We do not raise it" : "We raise it"}
      </button>
      <Faults error={save.error} />
    </>
  );
}

function OneRow({ row, act, one }: { row: Row; act: string; one: string }) {
  const { data: form } = useSuspenseQuery(rowQuery(row.kind, row.slug));
  const { data: forms } = useSuspenseQuery(formsQuery);
  const { data: library } = useSuspenseQuery(libraryQuery);
  const { crop: forCrop = "" } = useAddress();
  const may = useMay();
  const turn = useTurn();
  const asked = forms[row.kind] ?? [];
  if (act === "change" || act === "copy") {
    const copy = act === "copy";
    const start = copy ? { ...form.typed, name: "", ...(forCrop ? { crop: forCrop } : {}) } : form.typed;
    return (
      <article>
        <h2 className="mb-2">{copy ? `A new ${one}, made after ${form.name}` : `Change ${form.name}`}</h2>
        <RowForm
          kind={row.kind}
          asked={asked}
          slug={copy ? "" : row.slug}
          like={copy ? row.slug : ""}
          start={start}
          ships={copy ? undefined : form.shipped}
          {...(copy ? {} : { seen: form.seen })}
          onDone={(made) => turn(row.kind, { row: made.slug })}
          onDrop={() => turn(row.kind, { row: row.slug })}
        />
      </article>
    );
  }
  const method = row.kind === "method" ? library.methods.find((other) => other.slug === row.slug) : undefined;
  const crop = row.kind === "crop" ? library.crops.find((other) => other.slug === row.slug) : undefined;
  const seedWays = new Set(
    library.methods.filter((other) => other.crop_id === crop?.id && other.way !== "plants").map((other) => other.way),
  );
  return (
    <article className="min-w-0">
      <div className="mb-2 flex flex-wrap items-baseline gap-x-4">
        <h2>{form.name}</h2>
        <span className="note">
          {form.own ? `your own, edition ${form.edition}` : "ships with Aldrip"}
          {form.own && form.ships ? ", over one that ships" : ""}
          {form.retired ? "; retired" : ""}
        </span>
        {may("methods.edit") ? (
          <>
            <Link {...address(row.kind, { row: row.slug, act: "change" })}>Change</Link>
            <Link {...address(row.kind, { row: row.slug, act: "copy" })}>Make another after it</Link>
            {form.retired ? null : <Retire kind={row.kind} slug={row.slug} name={form.name} />}
            {row.kind === "crop" && !form.own ? <Raise row={row} /> : null}
          </>
        ) : null}
        <a href={`/api/library/yaml?kind=${row.kind}&slug=${row.slug}`}>As YAML</a>
      </div>
      {method ? <MethodView method={method} library={library} /> : <RowView asked={asked} form={form} />}
      {crop && !library.methods.some((other) => other.crop_id === crop.id) && may("methods.edit") ? (
        <p className="mt-4 border-ink border-l-4 pl-3">
          No method raises {crop.name.toLowerCase()} yet.{" "}
          <Link {...address("method", { act: "new", crop: crop.slug })}>Say how it is raised</Link>.
        </p>
      ) : null}
      {row.crop && row.kind === "method" ? <Schools crop={row.crop} here={row.slug} /> : null}
      {crop ? <Schools crop={crop.slug} here="" /> : null}
      {crop && seedWays.size ? <SeedLibrary crop={crop} library={library} way={[...seedWays][0] ?? "drilled"} /> : null}
      <Editions kind={row.kind} slug={row.slug} asked={asked} />
    </article>
  );
}
