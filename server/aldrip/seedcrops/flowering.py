"""The flowering match of a block: two dates, two curves, the gap, what cures it, and the bees."""

import uuid
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.base.words import plural
from aldrip.diary.services import Work, drop_task, put_task
from aldrip.methods.models import Remedy
from aldrip.methods.resolver import Library
from aldrip.places.climate import climate_of
from aldrip.seedcrops.laying import ROLES, load_block, phenology_of, ring_m
from aldrip.seedcrops.models import BlockParent, FlowerObservation, RemedyUse, SeedBlock
from aldrip_core import nick_remedies as core
from aldrip_core.flowering import FlowerDate, Phenology, Seen, as_parent, flower_date, flowers_until, sheds_from
from aldrip_core.geometry import area_m2
from aldrip_core.nick import Nick, Parent, curve, nick
from aldrip_core.plausible import WEEKS_OFF
from aldrip_core.refusal import Refused
from aldrip_core.schedule import Climate
from aldrip_core.whole import ceil_whole


@dataclass(frozen=True)
class ParentFlowering:
    """A parent's flowering: as planned at sowing, and as it stands with what was seen."""

    role: str
    row: BlockParent
    phenology: Phenology
    planned: FlowerDate
    found: FlowerDate
    parent: Parent
    parent_planned: Parent


@dataclass(frozen=True)
class Match:
    """The flowering of a block: parents, and the nick where there are two."""

    parents: dict[str, ParentFlowering]
    now: Nick | None
    planned: Nick | None
    climate: Climate

    @property
    def first(self) -> date:
        return min(p.found.first for p in self.parents.values())

    @property
    def last(self) -> date:
        return max(flowers_until(p.found.first, p.phenology) for p in self.parents.values())


def sown_on(parent: BlockParent) -> date | None:
    """The first day on which a parent was really sown."""
    return min((s.sown_on for s in parent.sown.all()), default=None)


def standing(parent: BlockParent) -> list[FlowerObservation]:
    """What was seen of a parent and was not replaced."""
    rows = list(parent.seen.all())
    replaced = {one.replaces_id for one in rows if one.replaces_id}
    return sorted((one for one in rows if one.pk not in replaced), key=lambda one: (one.seen_on, one.pk))


def _seen(parent: BlockParent) -> list[Seen]:
    return [Seen(one.seen_on, one.share, one.words) for one in standing(parent)]


def match_of(block: SeedBlock, *, sow: dict[str, date] | None = None, today: date | None = None) -> Match:
    """When each parent flowers and how they meet. Raises Refused where a heat sum or a line is not known."""
    climate = climate_of(block.field)
    if not block.parents.all():
        raise refuse("block", "no_parents", f"The lines of {block.batch.code} are not known yet.")
    found: dict[str, ParentFlowering] = {}
    for row in block.parents.all():
        day = (sow or {}).get(row.role) or sown_on(row) or row.sow_on
        phenology = phenology_of(row.line)
        seen = _seen(row)
        planned = flower_date(sow=row.sow_on, phenology=phenology, climate=climate)
        now = flower_date(sow=day, phenology=phenology, climate=climate, seen=seen, today=today)
        days = sorted({s.sown_on for s in row.sown.all()})
        sowings, gap = (
            (len(days), (days[-1] - days[0]).days / (len(days) - 1))
            if len(days) > 1
            else (row.sowings, row.sowing_gap_days)
        )
        found[row.role] = ParentFlowering(
            row.role,
            row,
            phenology,
            planned,
            now,
            as_parent(sow=day, found=now, phenology=phenology, sowings=sowings, sowing_gap_days=gap),
            as_parent(
                sow=row.sow_on,
                found=planned,
                phenology=phenology,
                sowings=row.sowings,
                sowing_gap_days=row.sowing_gap_days,
            ),
        )
    if set(found) != {"F", "M"}:
        return Match(found, None, None, climate)
    return Match(
        found,
        nick(female=found["F"].parent, male=found["M"].parent),
        nick(female=found["F"].parent_planned, male=found["M"].parent_planned),
        climate,
    )


def shedding_from(match: Match) -> date:
    """The first day on which pollen must be reckoned with in a block."""
    return min(sheds_from(p.found.first, p.phenology) for p in match.parents.values())


@dataclass(frozen=True)
class Cure:
    """A remedy for this block today: for which parent, until when, and how it was chosen, if it was.

    `seen_since`: a stage of its parent was seen after the choice, so that what it did is in the forecast.
    """

    remedy: Remedy
    given: core.Remedy
    role: str
    until: date
    useful: bool
    use: RemedyUse | None
    seen_since: bool = False

    @property
    def chosen(self) -> bool:
        return self.use is not None


def _in_core(row: Remedy) -> core.Remedy:
    return core.Remedy(
        core.Kind(row.remedy_class),
        core.For(row.parent),
        row.shift_low_days,
        row.shift_high_days,
        row.until_share,
        row.at_sowing,
    )


def cures_for(ctx: Ctx, block: SeedBlock, match: Match, uses: list[RemedyUse]) -> list[Cure]:
    """Remedies that suit the crop and the gap, those that still work first. A chosen one stays, so that it can be dropped."""
    if match.now is None:
        return []
    slug = block.batch.crop.slug
    last = {use.remedy_id: use for use in sorted(uses, key=lambda u: u.pk)}
    found = []
    for row in Library(ctx).rows(Remedy).order_by("id"):
        if row.crops and slug not in row.crops:
            continue
        given, use = _in_core(row), last.get(row.pk)
        use = use if use is not None and use.chosen else None
        role = use.role if use else core.role_for(given, match.now.gap_days)
        p = match.parents[role]
        if use is None and not core.suits(given, asked=match.now.remedy_class, sown=sown_on(p.row) is not None):
            continue
        until = core.works_until(
            given, parent=p.parent, first=p.found.first, phenology=p.phenology, climate=match.climate, seen=_seen(p.row)
        )
        since = use is not None and any(one.seen_on > ctx.local(use.happened_at).date() for one in standing(p.row))
        found.append(Cure(row, given, role, until, until >= ctx.today, use, since))
    return sorted(found, key=lambda c: (not c.useful, c.given.kind is core.Kind.POLLINATION, c.remedy.pk))


def after_cures(match: Match, cures: list[Cure]) -> core.Outlook | None:
    """What the chosen remedies leave of the gap; one whose effect was seen since is in the gap already."""
    if match.now is None:
        return None
    chosen = [c.given for c in cures if c.chosen and not c.seen_since]
    return core.outlook(female=match.parents["F"].parent, male=match.parents["M"].parent, remedies=chosen)


@act
def observe(
    ctx: Ctx,
    block_id: Ref,
    *,
    role: str,
    stage: str,
    on: date,
    client_uuid: uuid.UUID,
    replaces: Ref | None = None,
    reason: str = "",
) -> FlowerObservation:
    """A stage was seen on a parent: its flowering is foreseen anew, and the visits move with it."""
    ctx.get(SeedBlock, block_id, lock=True)
    done = ctx.rows(FlowerObservation).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    block = load_block(ctx, block_id)
    parent = next((p for p in block.parents.all() if p.role == role), None)
    if parent is None:
        raise refuse("role", "not_a_choice", "This block has no such line.")
    known = {one["slug"]: one for one in block.batch.crop.stages_seen}
    if stage not in known:
        raise refuse("stage", "not_a_choice", f"Known stages: {', '.join(one['words'] for one in known.values())}.")
    since = sown_on(parent)
    if since is None:
        raise refuse("role", "not_sown", f"The {ROLES[role]} is not sown yet; nothing can be seen of it.")
    if not since <= on <= ctx.today:
        raise refuse("on", "out_of_range", f"A day from its sowing on {since} to today is wanted, not {on}.")
    old = ctx.get(FlowerObservation, replaces) if replaces else None
    if old is not None and not reason.strip():
        raise refuse("reason", "missing", "Say why what was seen is corrected.")
    before = match_of(block)
    made = FlowerObservation.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        parent=parent,
        stage=stage,
        words=known[stage]["words"],
        share=known[stage]["share"],
        seen_on=on,
        happened_at=ctx.at(on),
        client_uuid=client_uuid,
        replaces=old,
        reason=reason[:300],
    )
    block = load_block(ctx, block_id)
    after = match_of(block)
    from aldrip.seedcrops.inspecting import move_visits

    move_visits(ctx, block)
    moved = (after.parents[role].found.first - before.parents[role].found.first).days
    off = f"{plural(abs(moved), 'day')} {'later' if moved > 0 else 'sooner'}"
    told = f"“{known[stage]['words']}” on {on.day} {on:%b} lets the {ROLES[role]} flower {off} than was foreseen. Is it so?"
    ctx.doubt("seen", "on", told if abs(moved) > WEEKS_OFF else None)
    said = (
        f"{plural(abs(moved), 'day')} {'later' if moved > 0 else 'earlier'} than foreseen" if moved else "as foreseen"
    )
    ctx.record(
        "block.seen",
        f"{block.batch.code}, {ROLES[role]}: {known[stage]['words']} on {on.day} {on:%b}; flowering {said}.",
        block,
    )
    return made


@act
def choose_remedy(ctx: Ctx, block_id: Ref, *, remedy_id: int, chosen: bool, client_uuid: uuid.UUID) -> RemedyUse:
    """Choose or drop a remedy. One that no longer works is refused."""
    ctx.get(SeedBlock, block_id, lock=True)
    done = ctx.rows(RemedyUse).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    block = load_block(ctx, block_id)
    match = match_of(block)
    cure = next((c for c in cures_for(ctx, block, match, list(block.remedies.all())) if c.remedy.pk == remedy_id), None)
    if cure is None:
        raise refuse("remedy_id", "does_not_fit", "This remedy does not suit the crop or the gap.")
    if chosen and not cure.useful:
        raise refuse(
            "remedy_id", "too_late", f"It worked until {cure.remedy.until_words}, about {cure.until}; that has passed."
        )
    made = RemedyUse.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        block=block,
        remedy=cure.remedy,
        role=cure.role,
        chosen=chosen,
        happened_at=ctx.now,
        client_uuid=client_uuid,
        gap_days=match.now.gap_days if match.now else None,
    )
    work = Work(f"remedy:{cure.remedy.slug}", "remedy", f"{cure.remedy.name} ({ROLES[cure.role]})")
    if chosen:
        put_task(
            ctx,
            block.batch,
            work,
            place=block.field,
            due=ctx.today,
            until=max(cure.until, ctx.today) + timedelta(days=1),
            minutes=90,
            caution=cure.remedy.caution,
        )
    else:
        drop_task(ctx, block.batch, work)
    ctx.record("block.remedy", f"{'Chose' if chosen else 'Dropped'} for {block.batch.code}: {cure.remedy.name}.", block)
    return made


def bees(block: SeedBlock, match: Match) -> dict[str, Any] | None:
    """Hives that an insect-pollinated block asks for, and the day to bring them."""
    wanted = block.batch.crop.pollinators
    if block.batch.crop.pollination != "insect" or not wanted or "F" not in match.parents:
        return None
    arrive = core.bees_arrive(female=match.parents["F"].parent, share=wanted["flower_percent"] / 100)
    area = area_m2(ring_m(block)) / 10_000
    return {
        "kind": wanted["kind"],
        "per_ha": wanted["per_ha"],
        "needed": ceil_whole(wanted["per_ha"] * area),
        "arrive": arrive,
        "flower_percent": wanted["flower_percent"],
        "ordered": block.hives,
        "ordered_for": block.hives_on,
    }


@act
def order_hives(ctx: Ctx, block_id: Ref, *, hives: int, on: date) -> SeedBlock:
    """Hives are ordered for a day; the day sheet says when they come, and that nobody sprays then."""
    block = load_block(ctx, block_id, lock=True)
    if not 0 < hives <= 1000:
        raise refuse("hives", "out_of_range", "How many hives? 1 to 1 000.")
    if on < ctx.today:
        raise refuse("on", "past", f"{on} is over. Choose a day to come.")
    block.hives, block.hives_on = hives, on
    block.version += 1
    block.save(update_fields=["hives", "hives_on", "version"])
    put_task(
        ctx,
        block.batch,
        Work("hives", "hives", f"{hives} hives arrive"),
        place=block.field,
        due=on,
        part="early",
        minutes=60,
        caution="Stings. No spraying while bees fly; tell whoever sprays nearby",
    )
    ctx.record("block.hives", f"{hives} hives for {block.batch.code} on {on.day} {on:%b}.", block)
    return block


def flowering_out(ctx: Ctx, block: SeedBlock, sow: dict[str, date] | None = None) -> dict[str, Any]:
    """The match as the block view shows it; what is missing as a sentence."""
    try:
        match = match_of(block, sow=sow, today=ctx.today)
    except Refused as error:
        return {"problem": error.errors[0].message, "match": None}
    start, end = match.first - timedelta(days=14), match.last + timedelta(days=10)
    for p in match.parents.values():
        start, end = min(start, p.planned.first - timedelta(days=14)), max(end, p.planned.first + timedelta(days=24))
    cures = cures_for(ctx, block, match, list(block.remedies.all()))
    after = after_cures(match, cures)
    return {
        "problem": "",
        "match": {
            "from": start,
            "to": end,
            "parents": [
                {
                    "role": role,
                    "line": p.row.line.name,
                    "sow_on": p.row.sow_on,
                    "sown_on": sown_on(p.row),
                    "first": p.found.first,
                    "planned_first": p.planned.first,
                    "date_sd_days": p.found.date_sd_days,
                    "lasts_days": p.phenology.lasts_days,
                    "curve": curve(p.parent, start, end),
                    "planned_curve": curve(p.parent_planned, start, end),
                    "seen": [
                        {"id": s.pk, "stage": s.stage, "words": s.words, "seen_on": s.seen_on} for s in standing(p.row)
                    ],
                    "working": p.found.working,
                    "sowings": p.parent.sowings,
                }
                for role, p in match.parents.items()
            ],
            "gap_days": match.now.gap_days if match.now else None,
            "gap_sd_days": match.now.gap_sd_days if match.now else None,
            "overlap": match.now.overlap if match.now else None,
            "planned_overlap": match.planned.overlap if match.planned else None,
            "remedy_class": match.now.remedy_class.value if match.now else None,
            "best_male_sow": match.now.best_male_sow if match.now else None,
            "best_overlap": match.now.best_overlap if match.now else None,
            "after": None
            if after is None
            else {"gap_low": after.gap_low_days, "gap_high": after.gap_high_days, "overlap": after.overlap},
            "working": match.now.working if match.now else (),
            "shedding_from": shedding_from(match),
            "bees": bees(block, match),
            "remedies": [
                {
                    "id": c.remedy.pk,
                    "name": c.remedy.name,
                    "role": c.role,
                    "remedy_class": c.remedy.remedy_class,
                    "shift_low": c.remedy.shift_low_days,
                    "shift_high": c.remedy.shift_high_days,
                    "until": c.until,
                    "until_words": c.remedy.until_words,
                    "useful": c.useful,
                    "chosen": c.chosen,
                    "gap_then": c.use.gap_days if c.use else None,
                    "seen_since": c.seen_since,
                    "caution": c.remedy.caution,
                    "source": c.remedy.sources.get("shift", ""),
                }
                for c in cures
            ],
        },
    }
