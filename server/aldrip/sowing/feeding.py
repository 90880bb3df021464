"""Feeds: what is weighed into a tank by a recipe, and what was read of it against its band."""

from typing import Any
from uuid import UUID

from aldrip.accounts.context import Ctx, act
from aldrip.base.errors import refuse
from aldrip.base.quantity import read_measure, split_number
from aldrip.base.schemas import steps
from aldrip.base.words import grams, number
from aldrip.methods.models import Input, Recipe
from aldrip.methods.resolver import Library
from aldrip.places.models import Place
from aldrip.sowing.models import FeedReading
from aldrip_core.stages import Allowed
from aldrip_core.tank_card import FeedBand, FeedPart, TankCard, read_feed, tank_card

SHOWN = 40  # readings of the house, the newest first


def parts_of(ctx: Ctx, recipe: Recipe) -> list[FeedPart]:
    """The salts and products of a recipe as the house has them. Raises Refused for one that is banned or says nothing."""
    slugs = [one["input"] for one in recipe.salts if one.get("input")]
    inputs = {row.slug: row for row in Library(ctx).rows(Input).filter(slug__in=slugs)}
    found = []
    for n, one in enumerate(recipe.salts):
        if one.get("formula"):
            found.append(FeedPart(one["formula"], one["grams"], formula=one["formula"]))
            continue
        product = inputs.get(one["input"])
        at = f"salts.{n}"
        if product is None:
            raise refuse(at, "gone", f"“{one['input']}” is not in the library any more. Change the feed in Methods.")
        if product.allowed == Allowed.BANNED.value:
            raise refuse(at, "banned", f"{product.name} is banned in this house: do not use it.")
        if not product.contains:
            told = f"It is not said what {product.name} contains. Write it under Inputs, as its label has it."
            raise refuse(at, "contains_nothing", told)
        found.append(FeedPart(product.name, one["grams"], label=product.contains))
    return found


def band_of(recipe: Recipe) -> FeedBand:
    """Between which EC and pH a feed is given."""
    return FeedBand(recipe.ec_low, recipe.ec_high, recipe.ph_low, recipe.ph_high)


def read_ratio(text: str) -> float | None:
    """An injector as people write it: “1:100”, “1 in 100”, “100”, “1 %”; None where there is none. Raises Refused."""
    plain = text.strip().lower().replace("1:", "", 1).replace("1 in", "", 1).replace("1 to", "", 1).strip()
    if not plain:
        return None
    value, unit = split_number(plain, "ratio")
    if unit == "%" and value > 0:
        return 100 / value
    if unit:
        raise refuse("ratio", "unit_in_number", f"“{unit}” is no injector. Write 100 for 1 in 100, or “1 %”.")
    return value


def card_of(ctx: Ctx, slug: str, *, litres: str, ratio: str, source_ec: str) -> tuple[Recipe, TankCard]:
    """What is weighed in for so much feed, as it was typed. Raises Refused."""
    recipe = Library(ctx).get(Recipe, slug)
    if not litres.strip():
        raise refuse("litres", "missing", "How much feed? In litres at the plants.")
    card = tank_card(
        parts=parts_of(ctx, recipe),
        recipe_l=recipe.litres,
        litres=read_measure(litres, "L", "litres"),
        ratio=read_ratio(ratio),
        source_ec=read_measure(source_ec, "mS/cm", "source_ec") if source_ec.strip() else 0.0,
    )
    return recipe, card


def band_words(band: FeedBand) -> str:
    """A band as people read it."""

    def between(name: str, low: float | None, high: float | None, unit: str) -> str:
        if low is None and high is None:
            return ""
        if low is None:
            return f"{name} at most {high:g}{unit}"
        return f"{name} at least {low:g}{unit}" if high is None else f"{name} {low:g} to {high:g}{unit}"

    told = (between("EC", band.ec_low, band.ec_high, " mS/cm"), between("pH", band.ph_low, band.ph_high, ""))
    return ", ".join(one for one in told if one)


def plain(ctx: Ctx, recipe: Recipe, card: TankCard, ratio: float | None) -> dict[str, Any]:
    """A tank card as it is shown and printed."""
    litres = card.tanks[0].litres * (ratio or 1)
    band = band_of(recipe)
    high = band.ec_high is not None and card.ec_ms_per_cm > band.ec_high
    low = band.ec_low is not None and card.ec_ms_per_cm < band.ec_low
    said = f"EC comes to about {card.ec_ms_per_cm:.2f} mS/cm"
    if high or low:
        said += f", {'over' if high else 'under'} its band"
    return {
        "organisation": ctx.organisation.name,
        "slug": recipe.slug,
        "name": recipe.name,
        "litres": litres,
        "litres_words": number(litres, 0 if litres >= 10 else 1),
        "ratio": ratio,
        "ratio_words": f"through an injector of 1 in {ratio:g}" if ratio else "mixed in the tank itself",
        "tanks": [
            {
                "name": tank.name,
                "litres": tank.litres,
                "litres_words": number(tank.litres, 0 if tank.litres >= 100 else 1),
                "parts": [{"name": one.name, "grams": one.grams, "words": grams(one.grams)} for one in tank.parts],
            }
            for tank in card.tanks
        ],
        "elements": [
            {"element": element, "mg_per_l": mg, "words": f"{mg:.3g}"} for element, mg in card.solution.mg_per_l.items()
        ],
        "oxides_words": ", ".join(f"{mg:.0f} mg {name}" for name, mg in card.oxides_mg_per_l.items()),
        "ec": card.ec_ms_per_cm,
        "ec_words": said,
        "band_words": band_words(band),
        "warnings": [one.message for one in card.warnings],
        "cautions": recipe.cautions,
        "note": recipe.note,
        "working": steps(card.working),
    }


@act
def record_feed(
    ctx: Ctx,
    *,
    recipe: str = "",
    place_id: int | None = None,
    ec: float | None = None,
    ph: float | None = None,
    client_uuid: UUID,
    replaces: int | None = None,
    reason: str = "",
) -> FeedReading:
    """EC and pH of a feed as they were read, against its band; or a reading put right."""
    done = ctx.rows(FeedReading).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    old = ctx.get(FeedReading, replaces) if replaces is not None else None
    if old is not None:
        if FeedReading.objects.filter(replaces=old).exists():
            raise refuse("replaces", "replaced", "That was put right already. Look again.")
        if not reason.strip():
            raise refuse("reason", "missing", "Say why it was wrong.")
    slug = old.recipe if old is not None else recipe
    of = Library(ctx).get(Recipe, slug) if slug and old is None else Library(ctx).rows(Recipe).filter(slug=slug).first()
    said = read_feed(ec, ph, band_of(of) if of is not None else FeedBand())
    place = old.place if old is not None else ctx.get(Place, place_id) if place_id else None
    made = FeedReading.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        recipe=slug,
        feed=old.feed if old is not None else of.name if of is not None else "Feed",
        place=place,
        ec=ec,
        ph=ph,
        said="; ".join(said)[:200],
        happened_at=old.happened_at if old is not None else ctx.now,
        client_uuid=client_uuid,
        replaces=old,
        reason=reason[:300],
    )
    read = ", ".join(
        one for one in (f"EC {ec:g} mS/cm" if ec is not None else "", f"pH {ph:g}" if ph is not None else "") if one
    )
    where = f" in {place.name}" if place else ""
    was = f" (put right: {reason})" if old is not None else ""
    ctx.record("feed.read", f"{made.feed}{where}: {read}{'; ' + made.said if made.said else ''}{was}.", place)
    return made


def readings(ctx: Ctx) -> list[FeedReading]:
    """The newest readings of feeds, corrected ones as they are now."""
    rows = ctx.rows(FeedReading).filter(replaced_by=None).select_related("by", "place")
    return list(rows.order_by("-happened_at", "-pk")[:SHOWN])
