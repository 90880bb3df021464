"""Isolation of a block: rules of its scheme, neighbours and own blocks, breaches with their cures."""

from collections.abc import Callable
from copy import copy
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from django.db.models import F

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import Conflict, refuse
from aldrip.base.words import day as day_words
from aldrip.base.words import number
from aldrip.batches.models import Batch
from aldrip.lots.releasing import class_names
from aldrip.methods.models import IsolationRule
from aldrip.methods.resolver import Library
from aldrip.methods.services import class_scheme
from aldrip.orders.promised import in_grams
from aldrip.places.ground import centre_of, ring_of
from aldrip.seedcrops.flowering import Match, match_of
from aldrip.seedcrops.laying import ROLES, days_to_sow, kilos, left_m2, left_of, load_block, ring_m, saved_batch
from aldrip.seedcrops.models import Neighbour, SeedBlock
from aldrip.seedcrops.parts import MIXED_IN, leave, taken_in
from aldrip_core import isolation as core
from aldrip_core.flowering import may_flower, sow_for, sow_not_before
from aldrip_core.geometry import area_m2, to_degrees
from aldrip_core.refusal import Refused
from aldrip_core.stages import Trait

KINDS = (
    "other cultivar",
    "same crop not conforming",
    "wild or weedy relative",
    "forage relative",
    "same pollen parent",
    "seed-borne disease source",
)


class Surroundings:
    """Rules, neighbours and own blocks of a house, loaded once with a fixed number of queries; blocks with `more` of theirs."""

    def __init__(self, ctx: Ctx, *more: str) -> None:
        rules = Library(ctx).rows(IsolationRule).filter(scheme=ctx.organisation.class_scheme).select_related("crop")
        self.rules = list(rules.order_by(F("organisation_id").asc(nulls_last=True), "-metres"))
        law = IsolationRule.objects.filter(organisation=None, statutory=True, scheme=ctx.organisation.class_scheme)
        self.law = list(law.select_related("crop"))
        self.neighbours = list(ctx.rows(Neighbour).filter(active=True).select_related("crop").order_by("name"))
        self.blocks = list(
            ctx.rows(SeedBlock)
            .exclude(batch__state=Batch.State.ABANDONED)
            .select_related("batch__crop", "batch__line", "batch__container", "batch__mix", "field__site")
            .prefetch_related("parents__line__crop", "parents__sown", "parents__seen", "batch__stages", *more)
            .order_by("pk")
        )


def rules_for(around: Surroundings, block: SeedBlock, seed_class: str | None = None) -> dict[str, IsolationRule]:
    """Rules of the house's scheme for a block by kind of neighbour; an own rule stands before the shipped one.

    What the law asks is a floor: an own rule may ask more, never less.
    """
    found: dict[str, IsolationRule] = {}
    wanted = (block.batch.crop.slug, seed_class or block.seed_class, block.step)
    for rule in around.rules:
        if (rule.crop.slug, rule.seed_class, rule.step) == wanted:
            found.setdefault(rule.kind, rule)
    for law in around.law:
        if (law.crop.slug, law.seed_class, law.step) == wanted:
            found[law.kind] = not_looser(found.get(law.kind, law), law)
    return found


def not_looser(own: IsolationRule, law: IsolationRule) -> IsolationRule:
    """A rule that asks at least the law's metres; in memory only.

    Whether another time of flowering may stand for them is the authority's word, which the house's own rule tells.
    """
    if own.metres >= law.metres:
        return own
    stricter = copy(own)
    stricter.metres, stricter.sources = law.metres, law.sources
    return stricter


@dataclass(frozen=True)
class Near:
    """Something of the same crop nearby: a neighbour's field, or another block of our own."""

    key: str
    name: str
    kind: str
    ring: tuple[tuple[float, float], ...]
    outline: Any
    flowering: core.Flowering | None
    told: str
    entered: Neighbour | None = None  # as somebody entered it


def season_of(block: SeedBlock) -> int:
    """The year in which a block flowers and is cut."""
    saved = saved_batch(block)
    row = saved.with_trait(Trait.FLOWERS) or saved.with_trait(Trait.LOADS)
    return int((row.planned.lower if row else days_to_sow(block)[0]).year)


def near(around: Surroundings, block: SeedBlock) -> list[Near]:
    """What of the same crop stands nearby in a block's season."""
    site, year = block.field.site, season_of(block)
    found = []
    for one in around.neighbours:
        if one.crop.slug != block.batch.crop.slug or one.year != year:
            continue
        flowering = core.Flowering(one.flowers_from, one.flowers_to) if one.flowers_from and one.flowers_to else None
        told = f"seen {day_words(one.seen_on)}" + (f" by {one.seen_by}" if one.seen_by else "")
        ring = ring_of(site, one.outline, "outline", stored=True)
        found.append(Near(f"n{one.uuid}", one.name, one.kind, ring, one.outline, flowering, told, one))
    found.extend(_own_blocks(around, block, year))
    return found


def _own_blocks(around: Surroundings, block: SeedBlock, year: int) -> list[Near]:
    others = [
        other
        for other in around.blocks
        if other.pk != block.pk and other.batch.crop.slug == block.batch.crop.slug and season_of(other) == year
    ]
    male = next((p.line_id for p in block.parents.all() if p.role == "M"), None)
    found = []
    for other in others:
        theirs = next((p.line_id for p in other.parents.all() if p.role == "M"), None)
        if male is not None and male == theirs:
            kind = "same pollen parent"
        elif block.batch.line_id == other.batch.line_id:
            continue  # the same cultivar cannot spoil itself
        else:
            kind = "other cultivar"
        name = f"{other.field.name}, {other.batch.line.name if other.batch.line else other.batch.code}"
        found.append(
            Near(
                f"b{other.uuid}",
                name,
                kind,
                ring_of(block.field.site, other.outline, "outline", stored=True),
                other.outline,
                window_of(other),
                f"own block {other.batch.code}",
            )
        )
    return found


def window_of(block: SeedBlock, match: Match | None = None) -> core.Flowering | None:
    """Days on which a block may flower, its uncertainty included; None where its heat sums are not known."""
    try:
        match = match or match_of(block)
    except Refused:
        return None
    spans = [may_flower(p.found, p.phenology) for p in match.parents.values()]
    return core.Flowering(min(a for a, _ in spans), max(b for _, b in spans))


@dataclass(frozen=True)
class Judged:
    """A block's isolation: every neighbour with its distance and rule, and core's answer over those with a rule."""

    near: list[Near]
    rules: dict[str, IsolationRule]
    result: core.Isolation
    without_rule: list[Near]
    window: core.Flowering | None
    open: tuple[core.Breach, ...]  # breaches that no strip left so far cures
    plantable: core.Parts  # what keeps every distance, of what earlier strips left
    plantable_m2: float


def judge(around: Surroundings, block: SeedBlock, seed_class: str | None = None) -> Judged:
    """Compare a block with everything of its crop nearby. A kind without a rule is listed, not guessed."""
    rules, found, window = rules_for(around, block, seed_class), near(around, block), window_of(block)
    known = [n for n in found if n.kind in rules]
    result = core.isolation(
        field=ring_m(block),
        neighbours=[core.Neighbour(n.key, n.ring, n.kind, n.flowering) for n in known],
        rules=[
            core.Rule(r.kind, r.metres, r.time_allowed, r.sources.get("metres", ""), r.time_margin_days)
            for r in rules.values()
        ],
        flowering=window,
    )
    left = left_of(block)
    still = core.not_cured(result.breaches, left=left, outlines={n.key: n.ring for n in known})
    plantable, area = (
        core.common_parts(left, result.plantable) if left else (result.plantable, result.plantable_area_m2)
    )
    return Judged(found, rules, result, [n for n in found if n.kind not in rules], window, still, plantable, area)


def too_near(around: Surroundings, block: SeedBlock) -> list[str]:
    """What of a block's isolation is not cured, in sentences."""
    return _open(judge(around, block))


def _open(judged: Judged) -> list[str]:
    names = {n.key: n.name for n in judged.near}
    return [f"isolation: {names[b.id]} stands at {b.distance_m:.0f} of {b.required_m:.0f} m" for b in judged.open]


def not_measured(judged: Judged) -> list[str]:
    """What stands nearby and has no distance that it must keep: nobody can say that it is far enough."""
    return [
        f"isolation: no distance is known for {n.name}, {n.kind}; enter one in Methods" for n in judged.without_rule
    ]


def isolation_wanting(around: Surroundings, block: SeedBlock) -> list[str]:
    """What of a block's isolation bars the release of its seed: what is too near, and what was never measured."""
    judged = judge(around, block)
    return [*_open(judged), *not_measured(judged)]


def _said(judged: Judged, class_name: str) -> str:
    """The whole in one sentence, and nothing that was not measured called kept."""
    if judged.open:
        return ""
    if not judged.near:
        return f"Nothing of this crop was entered nearby, so nothing was measured for {class_name}."
    if judged.without_rule:
        named = ", ".join(n.name for n in judged.without_rule)
        return (
            f"Not measured for {class_name}: no distance is known for {named}. Enter one in Methods; until then the seed "
            "cannot be released."
        )
    cured = " or is cut off by the strip that was left" if judged.result.breaches else ""
    other = " or flowers at another time" if judged.result.excused else ""
    return f"Everything of the crop that was seen nearby keeps its distance{other}{cured} for {class_name}."


def isolation_out(ctx: Ctx, block: SeedBlock) -> dict[str, Any]:
    """The isolation view: fields, distances, breaches, and three remedies with what each costs."""
    around = Surroundings(ctx)
    judged = judge(around, block)
    east, north = centre_of(block.field.site)
    breaches = {b.id: b for b in judged.result.breaches}
    excused = {b.id: b for b in judged.result.excused}
    distances = judged.result.distances_m or {}

    names = class_names(ctx)
    bands = sorted({judged.rules[n.kind].metres for n in judged.near if n.kind in judged.rules} - {0.0})

    def degrees(rings: Any) -> list[Any]:
        return [
            [[list(p) for p in to_degrees(ring, longitude=east, latitude=north)] for ring in polygon]
            for polygon in rings
        ]

    plantable = {"type": "MultiPolygon", "coordinates": degrees(judged.plantable)}
    x0, y0 = (min(p[axis] for p in ring_m(block)) for axis in (0, 1))
    return {
        "outline": block.outline,
        "plantable": plantable,
        "plantable_m": [
            [[[round(x - x0, 2), round(y - y0, 2)] for x, y in ring] for ring in polygon]
            for polygon in judged.plantable
        ],
        "area_m2": area_m2(ring_m(block)),
        "plantable_m2": judged.plantable_m2,
        "strip_left": block.strip_left,
        "flowers_from": judged.window.start if judged.window else None,
        "flowers_to": judged.window.end if judged.window else None,
        "neighbours": [
            {
                "key": n.key,
                "id": n.entered.pk if n.entered else None,
                "year": n.entered.year if n.entered else None,
                "seen_on": n.entered.seen_on if n.entered else None,
                "seen_by": n.entered.seen_by if n.entered else "",
                "name": n.name,
                "kind": n.kind,
                "outline": n.outline,
                "told": n.told,
                "flowers_from": n.flowering.start if n.flowering else None,
                "flowers_to": n.flowering.end if n.flowering else None,
                "distance_m": distances.get(n.key),
                "required_m": judged.rules[n.kind].metres if n.kind in judged.rules else None,
                "source": judged.rules[n.kind].sources.get("metres", "") if n.kind in judged.rules else "",
                "state": _state(n, breaches, excused, judged, block),
                "short_m": breaches[n.key].short_m if n.key in breaches else None,
                "days_apart": (breaches.get(n.key) or excused.get(n.key) or core.Breach("", 0, 0, 0)).days_apart,
                "line": _line(block, n, east, north) if n.key in breaches else None,
            }
            for n in judged.near
        ],
        "remedies": _remedies(ctx, around, block, judged) if judged.open else [],
        "bands": [
            {
                "metres": metres,
                "line": [list(p) for p in to_degrees(core.band(ring_m(block), metres), longitude=east, latitude=north)],
            }
            for metres in bands
        ],
        "class_name": names.get(block.seed_class, block.seed_class),
        "said": _said(judged, names.get(block.seed_class, block.seed_class)),
        "step": block.step,
        "version": block.version,
        "working": judged.result.working,
    }


def _state(n: Near, breaches: dict[str, Any], excused: dict[str, Any], judged: Judged, block: SeedBlock) -> str:
    if n.kind not in judged.rules:
        return "no rule"
    if n.key in breaches:
        return "too close" if any(b.id == n.key for b in judged.open) else "strip left"
    return "other time" if n.key in excused else "passes"


def _line(block: SeedBlock, n: Near, east: float, north: float) -> list[list[float]]:
    """The shortest way between the outlines, for the drawing."""
    return [list(p) for p in to_degrees(core.shortest_way(ring_m(block), n.ring), longitude=east, latitude=north)]


def _remedies(ctx: Ctx, around: Surroundings, block: SeedBlock, judged: Judged) -> list[dict[str, Any]]:
    batch = block.batch
    return [_strip(ctx, block, judged, batch), _delay(ctx, block, judged), _drop(ctx, around, block, judged)]


def _promised(batch: Batch) -> float:
    return sum(
        kilos(in_grams(a.order_line, a.quantity)) or 0.0
        for a in batch.allocations.select_related("order_line__crop", "order_line__line")
    )


def _strip(ctx: Ctx, block: SeedBlock, judged: Judged, batch: Batch) -> dict[str, Any]:
    area, left = left_m2(block), judged.plantable_m2
    expected = kilos(batch.expected) or 0.0
    after = expected * left / area
    promised = _promised(batch)
    short = max(0.0, promised - after)
    sown = any(p.sown.all() for p in block.parents.all())
    how = "Plough in or harvest the strip as grain" if sown else "Leave the strip unplanted"
    said = f"{left / 10_000:.2f} of {area / 10_000:.2f} ha remain; about {number(after)} kg instead of {number(expected)} kg"
    said += (
        f", {number(short)} kg short of the {number(promised)} kg promised."
        if short > 0
        else f", still enough for the {number(promised)} kg promised."
    )
    if left <= 0:
        said = "Nothing of the field keeps its distance."
    elif taken_in(ctx, block):
        said = MIXED_IN
    possible = left > 0 and said != MIXED_IN
    return {
        "kind": "strip",
        "title": how,
        "possible": possible,
        "sentence": said,
        "kg_before": expected,
        "kg_after": after,
        "asks": "mark the line before flowering",
        "seed_class": None,
        "sow_on": None,
    }


def _delay(ctx: Ctx, block: SeedBlock, judged: Judged) -> dict[str, Any]:
    """Flower at another time, where every rule that is broken accepts it."""
    row = {
        "kind": "delay",
        "title": "Flower at another time",
        "possible": False,
        "kg_before": kilos(block.batch.expected),
        "kg_after": kilos(block.batch.expected),
        "asks": "",
        "seed_class": None,
        "sow_on": None,
    }
    by_key = {n.key: n for n in judged.near}
    strict = [b for b in judged.result.breaches if not judged.rules[by_key[b.id].kind].time_allowed]
    if strict:
        return {**row, "sentence": f"The rule takes no other time instead of the {strict[0].required_m:g} m."}
    unknown = [b for b in judged.result.breaches if by_key[b.id].flowering is None]
    if unknown:
        return {**row, "sentence": f"When does {by_key[unknown[0].id].name} flower? Enter it with the neighbour."}
    if any(p.sown.all() for p in block.parents.all()):
        return {**row, "sentence": "The block is sown; its flowering cannot be put off far enough any more."}
    if judged.window is None:
        return {**row, "sentence": "The parents' heat sums are not known, so no sowing day can be worked out."}
    others = [
        (flowering, timedelta(days=judged.rules[by_key[b.id].kind].time_margin_days))
        for b in judged.result.breaches
        if (flowering := by_key[b.id].flowering)
    ]
    # After the last of them has faded, or before the first of them opens: whichever asks for less.
    after = max(one.end + margin for one, margin in others)
    before = min(one.start - margin for one, margin in others)
    ways = [
        ((after - judged.window.start).days, lambda own: own.start >= after),
        ((before - judged.window.end).days, lambda own: own.end <= before),
    ]
    for days, clear in sorted(ways, key=lambda one: abs(one[0])):
        try:
            sow = _flower_at(block, days, clear)
        except Refused:
            continue
        if min(sow.values()) >= ctx.today:
            return {**row, **_moved(ctx, block, days, sow)}
    return {
        **row,
        "sentence": f"Neither {ways[0][0]} days later nor {-ways[1][0]} days earlier can be reached here any more.",
    }


def _moved(ctx: Ctx, block: SeedBlock, days: int, sow: dict[str, date]) -> dict[str, Any]:
    """What it means that a block flowers so many days later, or earlier where they are less than nothing."""
    ready = saved_batch(block).last.planned.upper + timedelta(days=days)
    late = [
        a.order_line
        for a in block.batch.allocations.select_related("order_line__order")
        if a.order_line.due.upper <= ready
    ]
    told = " and ".join(f"the {ROLES[role]} on {day_words(on, today=ctx.today)}" for role, on in sow.items())
    if len(set(sow.values())) == 1:
        told = f"on {day_words(min(sow.values()), today=ctx.today)}"
    way = f"{abs(days)} days {'later' if days > 0 else 'earlier'}"
    said = f"Sow {told}; flowering {way}, seed ready about {day_words(ready, today=ctx.today)}"
    said += f", too late for order {late[0].order.number}." if late else ", still in time."
    answer_by = min(*sow.values(), *days_to_sow(block))
    return {
        "possible": True,
        "sentence": said,
        "asks": f"the neighbour's word by {day_words(answer_by, today=ctx.today)}",
        "sow_on": sow,
    }


def _flower_at(block: SeedBlock, days: int, clear: Callable[[core.Flowering], bool]) -> dict[str, date]:
    """Sowing days by role whose flowering lies so many days off and is clear, uncertainty included. Raises Refused."""
    match, later = match_of(block), days > 0
    for more in range(12):
        off = timedelta(days=days + more if later else days - more)
        when = sow_not_before if later else sow_for
        sow = {
            role: when(flower_on=p.found.first + off, phenology=p.phenology, climate=match.climate)
            for role, p in match.parents.items()
        }
        window = window_of(block, match_of(block, sow=sow))
        if window is not None and clear(window):
            return sow
    raise refuse("sow_on", "not_found", f"No sowing was found whose flowering lies {abs(days)} days off and is clear.")


def _drop(ctx: Ctx, around: Surroundings, block: SeedBlock, judged: Judged) -> dict[str, Any]:
    """A lower class, if its distance is kept."""
    scheme = class_scheme(ctx)
    names = scheme.names() if scheme else {}
    row = {
        "kind": "class",
        "title": "Drop to a lower class",
        "possible": False,
        "kg_before": kilos(block.batch.expected),
        "kg_after": kilos(block.batch.expected),
        "asks": "",
        "seed_class": None,
        "sow_on": None,
    }
    below = scheme.below(block.seed_class) if scheme else []
    unfit = scheme.unfit_for(block.step) if scheme else set()
    for lower in below:
        if lower in unfit or not rules_for(around, block, lower):
            continue
        again = judge(around, block, lower)
        if again.result.breaches or again.without_rule:
            continue
        asked = max((r.metres for r in again.rules.values()), default=0)
        lines = [
            a.order_line
            for a in block.batch.allocations.select_related("order_line__order")
            if a.order_line.seed_class == block.seed_class
        ]
        agree = (
            f"; order {lines[0].order.number} asks for {names.get(block.seed_class, block.seed_class)} and must agree"
            if lines
            else ""
        )
        return {
            **row,
            "title": f"Drop to {names.get(lower, lower)}",
            "possible": True,
            "seed_class": lower,
            "sentence": f"{names.get(lower, lower)} asks {asked:g} m, which is kept{agree}.",
            "asks": "the customer's word",
        }
    fit = [name for name in below if name not in unfit]
    unknown = [names.get(name, name) for name in fit if not rules_for(around, block, name)]
    if not fit:
        said = "This is the lowest class that it can be grown as."
    elif unknown:
        said = f"No distance is known for {' and '.join(unknown)}. Enter one in Methods."
    else:
        said = "No lower class of this scheme has a distance that is kept."
    return {**row, "sentence": said}


@act
def leave_strip(ctx: Ctx, block_id: Ref, *, version: int) -> SeedBlock:
    """Leave what is too near: the rest is what the promise can count on."""
    ctx.get(SeedBlock, block_id, lock=True)
    block = load_block(ctx, block_id)
    if block.version != version:
        raise Conflict("Somebody saved this block first. Look again before you decide.", version=block.version)
    judged = judge(Surroundings(ctx), block)
    if not judged.open:
        raise refuse("block", "nothing_to_leave", "Nothing is too near here any more.")
    if taken_in(ctx, block):
        raise refuse("block", "taken_in", MIXED_IN + " Drop to a lower class, or reject the lots.")
    if judged.plantable_m2 <= 0:
        raise refuse("block", "nothing_left", "Nothing of the field keeps its distance.")
    lost = leave(ctx, block, judged.plantable, judged.plantable_m2, "strip left for isolation")
    ctx.record("block.strip", f"{block.batch.code}: a strip of {lost / 10_000:.2f} ha is left for isolation.", block)
    return block


@act
def drop_class(ctx: Ctx, block_id: Ref, *, seed_class: str, version: int) -> SeedBlock:
    """Grow the block on as a lower class."""
    ctx.get(SeedBlock, block_id, lock=True)
    block = load_block(ctx, block_id)
    if block.version != version:
        raise Conflict("Somebody saved this block first. Look again before you decide.", version=block.version)
    scheme = class_scheme(ctx)
    unfit = scheme.unfit_for(block.step) if scheme else set()
    if scheme is None or seed_class in unfit or seed_class not in scheme.below(block.seed_class):
        raise refuse("seed_class", "not_below", "Choose a class below the one the block has.")
    before = block.seed_class
    block.seed_class = seed_class
    block.version += 1
    block.save(update_fields=["seed_class", "version"])
    ctx.record(
        "block.class",
        f"{block.batch.code} is grown on as {scheme.names()[seed_class]}.",
        block,
        before={"seed_class": before},
        after={"seed_class": seed_class},
    )
    return block
