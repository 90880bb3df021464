import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useDeferredValue, useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { feedsQuery, placesQuery, tankQuery } from "../../api/queries";
import { useWorking } from "../../shell/working";
import { AskField, AskForm } from "../../ui/AskForm";
import { shortDay } from "../../ui/dates";
import { few } from "../../ui/format";
import { useMay } from "../../ui/hooks";
import { Faults, Field, Sheet } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";

type Feeds = Schemas["FeedsOut"];

/** Feeds of the house: the card of a tank, and what was read against the band. */
export function FeedSection() {
  const { data } = useQuery(feedsQuery);
  const [open, setOpen] = useState<"tank" | "read" | null>(null);
  const [right, setRight] = useState<Schemas["FeedReadOut"] | null>(null);
  const may = useMay();
  if (!data) return null;
  const close = () => {
    setOpen(null);
    setRight(null);
  };
  return (
    <section className="mt-8" aria-label="Feed">
      <div className="flex flex-wrap items-baseline gap-3 border-rule border-b pb-1">
        <h2>Feed</h2>
        <span className="note flex-1">{few(data.feeds.length, "recipe")}</span>
        <Link to="/methods" search={{ kind: "recipe" }}>
          Recipes
        </Link>
        <button type="button" className="btn" onClick={() => setOpen("tank")}>
          Mix a tank
        </button>
        {may("diary.do") ? (
          <button type="button" className="btn" onClick={() => setOpen("read")}>
            Write down EC and pH
          </button>
        ) : null}
      </div>
      {data.readings.length ? (
        <table className="tbl">
          <tbody>
            {data.readings.slice(0, 8).map((one) => (
              <tr key={one.id}>
                <td className="note whitespace-nowrap">{shortDay(one.at.slice(0, 10))}</td>
                <td>
                  {one.feed} <span className="note">{one.place}</span>
                </td>
                <td className="num whitespace-nowrap">{one.ec === null ? "" : `EC ${one.ec}`}</td>
                <td className="num whitespace-nowrap">{one.ph === null ? "" : `pH ${one.ph}`}</td>
                <td>{one.said ? <b>{one.said}</b> : <span className="note">inside its band</span>}</td>
                <td className="text-right">
                  {may("diary.do") ? (
                    <button
                      type="button"
                      className="btn-link"
                      onClick={() => {
                        setRight(one);
                        setOpen("read");
                      }}
                    >
                      put right
                    </button>
                  ) : null}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : null}
      {open === "tank" ? (
        <Sheet open onClose={close} title="Mix a tank" wide>
          <Tank feeds={data.feeds} />
        </Sheet>
      ) : null}
      {open === "read" ? (
        <Sheet open onClose={close} title={right ? `Put right: ${right.feed}` : "EC and pH of a feed"}>
          <ReadFeed feeds={data} right={right} onDone={close} />
        </Sheet>
      ) : null}
    </section>
  );
}

function Tank({ feeds }: { feeds: Feeds["feeds"] }) {
  const [typed, setTyped] = useState({ slug: feeds[0]?.slug ?? "", litres: "100", ratio: "", source_ec: "" });
  const asked = useDeferredValue(typed);
  const { data, error } = useQuery(tankQuery(asked));
  const { show } = useWorking();
  const put = (name: keyof typeof typed) => (event: { target: { value: string } }) =>
    setTyped((old) => ({ ...old, [name]: event.target.value }));
  const query = new URLSearchParams({ litres: typed.litres, ratio: typed.ratio, source_ec: typed.source_ec });
  return (
    <div className="grid gap-x-8 gap-y-4 lg:grid-cols-[18rem_1fr]">
      <div className="grid content-start gap-3">
        <Field label="Feed">
          <select className="input phone" value={typed.slug} onChange={put("slug")}>
            {feeds.map((one) => (
              <option key={one.slug} value={one.slug}>
                {one.name}
              </option>
            ))}
          </select>
        </Field>
        <Field label="How much at the plants" hint="litres, or “100 US gal”">
          <input className="input phone" inputMode="decimal" value={typed.litres} onChange={put("litres")} />
        </Field>
        <Field label="Injector" hint="“1:100”; empty where it is mixed in the tank itself">
          <input className="input phone" value={typed.ratio} onChange={put("ratio")} />
        </Field>
        <Field label="EC of the water" hint="mS/cm, before anything is in it">
          <input className="input phone" inputMode="decimal" value={typed.source_ec} onChange={put("source_ec")} />
        </Field>
        {data && !error ? (
          <a className="btn w-fit" href={`/api/feeds/${typed.slug}/tank.pdf?${query}`} target="_blank" rel="noreferrer">
            Print on A5
          </a>
        ) : null}
      </div>
      <div className="min-w-0">
        {error ? (
          <Faults error={error} />
        ) : data ? (
          <TankCard card={data} show={show} />
        ) : (
          <p role="status">Reckoning …</p>
        )}
      </div>
    </div>
  );
}

function TankCard({ card, show }: { card: Schemas["TankCardOut"]; show: ReturnType<typeof useWorking>["show"] }) {
  const opens = (title: string, value: string) => () => show({ title, value, steps: card.working }, true);
  const most = Math.max(...card.elements.map((one) => one.mg_per_l));
  return (
    <>
      <p className="text-ink2">
        {card.litres_words} L of feed at the plants, {card.ratio_words}
      </p>
      <div className="mt-2 grid gap-6 sm:grid-cols-2">
        {card.tanks.map((tank) => (
          <section key={tank.name}>
            <h2>
              {card.ratio || card.tanks.length > 1
                ? `Tank ${tank.name}: ${tank.litres_words} L of stock`
                : "Into the tank"}
            </h2>
            <table className="tbl">
              <tbody>
                {tank.parts.map((part) => (
                  <tr key={part.name}>
                    <td>{part.name}</td>
                    <td className="num text-h2">
                      <button type="button" className="btn-link font-bold" onClick={opens(part.name, part.words)}>
                        {part.words}
                      </button>
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
        ))}
      </div>
      {card.warnings.map((one) => (
        <p key={one} className="mt-2 border-ink border-l-4 pl-3 font-semibold">
          {one}
        </p>
      ))}
      <h2 className="mt-4">A litre at the plants holds</h2>
      <dl className="grid grid-cols-[3rem_4.5rem_1fr] items-center gap-x-2 gap-y-0.5">
        {card.elements.map((one) => (
          <div key={one.element} className="contents">
            <dt>{one.element}</dt>
            <dd className="num">
              <button type="button" className="btn-link min-h-6" onClick={opens(one.element, `${one.words} mg/L`)}>
                {one.words} mg
              </button>
            </dd>
            <dd aria-hidden>
              <span
                className="block h-2.5 border-ink border-r bg-stand"
                style={{ width: `${Math.max(0.4, (one.mg_per_l / most) * 100)}%` }}
              />
            </dd>
          </div>
        ))}
      </dl>
      {card.oxides_words ? <p className="note mt-1">As a label counts it: {card.oxides_words} a litre.</p> : null}
      <p className="mt-3 text-[1.15rem] leading-7">
        <button type="button" className="btn-link font-bold" onClick={opens("EC", card.ec_words)}>
          {card.ec_words}
        </button>
        {card.band_words ? `; given at ${card.band_words}` : ""}.
      </p>
      {card.note ? <p className="note mt-2">{card.note}.</p> : null}
      <div className="mt-3 border-ink border-l-4 pl-3">
        {card.cautions.map((one) => (
          <p key={one} className="font-semibold">
            {one}
          </p>
        ))}
        <p className="note">Gloves and eye protection; follow the label and local rules.</p>
      </div>
    </>
  );
}

function ReadFeed({
  feeds,
  right,
  onDone,
}: {
  feeds: Feeds;
  right: Schemas["FeedReadOut"] | null;
  onDone: () => void;
}) {
  const { data: house } = useQuery(placesQuery);
  const start = {
    recipe: feeds.feeds[0]?.slug ?? "",
    place_id: "",
    ec: right?.ec?.toString() ?? "",
    ph: right?.ph?.toString() ?? "",
    reason: "",
  };
  const ask = useAsk({
    start,
    again: false,
    onDone,
    save: ({ place_id, ...typed }: typeof start, uuid) =>
      take(
        api.POST("/api/feeds/readings", {
          body: { ...typed, place_id: place_id ? Number(place_id) : null, replaces: right?.id ?? null, uuid },
        }),
      ),
  });
  const places = house?.places ?? [];
  return (
    <AskForm ask={ask} button={right ? "Put it right" : "Write it down"} big="phone">
      {right ? null : (
        <>
          <AskField
            ask={ask}
            name="recipe"
            label="Feed"
            type="select"
            className="phone"
            options={[
              ...feeds.feeds.map((one) => [one.slug, `${one.name}: ${one.band_words}`] as const),
              ["", "another one"],
            ]}
          />
          <AskField
            ask={ask}
            name="place_id"
            label="Where"
            type="select"
            className="phone"
            options={[["", "at the tank"], ...places.map((one) => [String(one.id), one.name] as const)]}
          />
        </>
      )}
      <div className="grid grid-cols-2 gap-3">
        <AskField ask={ask} name="ec" label="EC" hint="mS/cm, or “1400 µS/cm”" className="phone" digits />
        <AskField ask={ask} name="ph" label="pH" className="phone" digits />
      </div>
      {right ? <AskField ask={ask} name="reason" label="Why was it wrong" /> : null}
    </AskForm>
  );
}
