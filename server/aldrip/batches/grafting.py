"""A batch that is grafted: what it is made of, who grows that, and whether the two fit each other at the cut."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.base.quantity import read_count, read_measure, read_measures
from aldrip.base.words import day, number, plural
from aldrip.batches.models import Batch, BatchInput, BatchStage
from aldrip.batches.overdue import ready_on
from aldrip.batches.saved import Saved, load_batch
from aldrip.batches.sowings import joined
from aldrip.batches.starting import NewBatch, new_batch
from aldrip.batches.steps import still_open
from aldrip.methods.models import Crop, Line, Method
from aldrip.methods.resolver import Library
from aldrip_core.grafting import FEW, MORE, WITHIN_MM, Pairs, pairs
from aldrip_core.sowing_chain import Link
from aldrip_core.stages import Trait
from aldrip_core.units import exact, from_base
from aldrip_core.whole import ceil_whole

WAITS_DAYS = 7  # a half that is ready for the graft, where its method says nothing; common practice, no source


@dataclass(frozen=True)
class Grown:
    """A batch that is to give a part: how many are wanted of it and expected, and how many days after the grafting it is ready; 0: in time."""

    batch: Batch
    quantity: float
    expected: float
    ready_on: date
    late_days: int
    waits_days: int  # that it is ready before the grafting, where it may not wait so long; 0: it may


@dataclass(frozen=True)
class Half:
    """One of the two: its crop, the cultivar where that is given, how many, who grows it, what was used, and by which methods it can be raised."""

    part: str
    crop: Crop
    line: Line | None
    needed: int
    grown: Sequence[Grown]
    used: Sequence[BatchInput]
    methods: Sequence[Method]
    lines: Sequence[Line]


def halves(ctx: Ctx, batch_id: Ref) -> list[Half]:
    """The two parts of a graft; none where a batch is no graft."""
    saved = load_batch(ctx, batch_id)
    both = joined(saved)
    if both is None:
        return []
    fed = BatchInput.objects.filter(stage=saved.first).select_related("upstream__batch", "lot")
    rows = list(fed.order_by("id"))
    found = []
    for part in both:
        crop = _crop_of(ctx, saved, part)
        line = saved.batch.line if part == both[0] else None
        library = Library(ctx)
        raised = library.rows(Method).filter(crop__slug=crop.slug, way="plants", by_seed=True)
        # Small plants are grafted: what is raised one to a cell comes first.
        methods = sorted(raised.exclude(form=saved.method.form), key=lambda one: (one.form != "plug", one.name))
        lines = [] if part == both[0] else list(library.rows(Line).filter(crop__slug=crop.slug).order_by("name"))
        own = [one for one in rows if one.part == part]
        grown = [_grown(ctx, saved, one) for one in own if _comes(one)]
        used = [one for one in own if one.lot is not None and one.taken_on is not None]
        found.append(Half(part, crop, line, saved.batch.start, grown, used, methods, lines))
    return found


def _crop_of(ctx: Ctx, saved: Saved, part: str) -> Crop:
    """The crop of a part: the batch's own, or the one that it is grafted on."""
    root, slug = saved.method.root, saved.method.root.joins_crop
    if root.joins is None or part != root.joins.value or not slug:
        return saved.batch.crop
    crop = Library(ctx).rows(Crop).filter(slug=slug).first()
    if crop is None:
        raise refuse("part", "no_crop", f"The method grafts on “{slug}”, which is no crop here any more. Add it again.")
    return crop


def _grown(ctx: Ctx, saved: Saved, one: BatchInput) -> Grown:
    assert one.upstream is not None
    feeder = load_batch(ctx, one.upstream.batch_id, light=True)
    ready = ready_on(feeder, ctx.today)
    grafted = saved.first.actual_start or saved.first.planned.lower
    expected = float(from_base(exact(feeder.batch.expected), feeder.method.unit))
    early = (grafted - ready).days
    may_wait = WAITS_DAYS if feeder.method.hold_days is None else feeder.method.hold_days
    late = max(0, -early)
    return Grown(feeder.batch, float(one.quantity), expected, ready, late, early if early > may_wait else 0)


def _comes(one: BatchInput) -> bool:
    """Whether something still comes of the batch that an input waits for."""
    return one.upstream is not None and one.upstream.batch.state != Batch.State.ABANDONED


@act
def raise_half(
    ctx: Ctx, batch_id: Ref, *, part: str, method_id: int, line_id: int | None = None, more: str = ""
) -> Batch:
    """Plan the batch that gives one part of a graft, ready on the day of the grafting; it is kept for that graft.

    more: how many more than grafts are made, as typed; a tenth where nobody says. Raises Refused.
    """
    saved = load_batch(ctx, batch_id, lock=True)
    batch, both = saved.batch, joined(saved)
    still_open(batch)
    if both is None or part not in both:
        raise refuse("part", "not_a_choice", f"Batch {batch.code} is not made of {part}s.")
    if batch.state != Batch.State.PLANNED:
        raise refuse("state", "sown", f"Batch {batch.code} was grafted on {saved.first.actual_start}.")
    planned = BatchInput.objects.filter(stage=saved.first, part=part, taken_on=None).select_related("upstream__batch")
    other = next((one.upstream.batch.code for one in planned if one.upstream is not None and _comes(one)), None)
    if other is not None:
        told = f"Batch {other} is raised for its {part}s already. Raise more in that one, or abandon it."
        raise refuse("part", "twice", told)
    crop = _crop_of(ctx, saved, part)
    extra = read_measure(more, "%", "more") / 100 if more.strip() else MORE
    if not 0 <= extra <= 10:
        raise refuse("more", "out_of_range", f"{extra:.0%} more cannot be; 0 to 1,000 % can.")
    line = batch.line_id if part == both[0] else line_id
    grafted = saved.first.planned.lower
    asked = NewBatch(crop.pk, method_id, grafted, float(ceil_whole(batch.start * (1 + extra))), line)
    feeder = load_batch(ctx, new_batch(ctx, asked))
    gives = feeder.method.first_with(Trait.YIELDS)
    if gives is None:
        raise refuse("method_id", "no_stock", f"{feeder.method.name} gives nothing to stock that could be grafted.")
    late = (ready_on(feeder, ctx.today) - grafted).days
    told = (
        f"Its {part}s are ready {plural(late, 'day')} after the grafting on {day(grafted)}. Plan it, and graft later?"
    )
    ctx.doubt("late", "method_id", told if late > 0 else None)
    stage = BatchStage.objects.get(batch=feeder.batch, key=gives.key)
    planned.delete()  # of one that was abandoned nothing comes
    BatchInput.objects.create(stage=saved.first, upstream=stage, quantity=exact(batch.start), part=part)
    ctx.record("batch.raise_half", f"{feeder.batch.code} is raised for the {part}s of {batch.code}.", feeder.batch)
    return feeder.batch


def pairs_of(
    ctx: Ctx, batch_id: Ref, *, top_mm: str = "", foot_mm: str = "", within: str = "", tops: str = "", feet: str = ""
) -> Sequence[Link]:
    """Whether the two fit each other, from a few that were measured at the cut; nothing where a batch is no graft.

    top_mm, foot_mm: thickness of scions and rootstocks, one after another; tops, feet: how many there are, as many as
    are grafted where nobody says. Raises Refused.
    """
    saved = load_batch(ctx, batch_id)
    both = joined(saved)
    if both is None:
        return ()
    top, foot = both
    usual = saved.batch.start
    many = [read_count(text, name) if text.strip() else usual for text, name in ((tops, "tops"), (feet, "feet"))]
    if not top_mm.strip() or not foot_mm.strip():
        told = f"Measure ten {top}s and ten {foot}s at the height of the cut, taken anywhere from their trays."
        return [Link("pairs", "Grafted as planned", float(usual), "grafts", (), told)]
    tops_mm, feet_mm = read_measures(top_mm, "mm", "top_mm"), read_measures(foot_mm, "mm", "foot_mm")
    apart = read_measure(within, "mm", "within") if within.strip() else WITHIN_MM
    found = pairs(tops_mm, feet_mm, scions=many[0], rootstocks=many[1], within_mm=apart)
    few = min(len(tops_mm), len(feet_mm))
    told = _told(found, top, foot, usual) + (f" {few} measured tell little; measure {FEW}." if few < FEW else "")
    return [
        Link("pairs", "Go together", found.pairs, "grafts", (), told),
        Link("tops_left", f"{top.capitalize()}s without a mate", found.scions_left, f"{top}s", ()),
        Link("feet_left", f"{foot.capitalize()}s without a mate", found.rootstocks_left, f"{foot}s", ()),
    ]


def _told(found: Pairs, top: str, foot: str, wanted: int) -> str:
    """What it comes to: enough pairs, or how many are short and which of the two is too thin."""
    if found.pairs >= wanted:
        return f"Enough for the {number(wanted)} that are planned."
    short = f"{number(wanted - found.pairs)} short of the {number(wanted)} that are planned."
    if found.scion_left_mm is None or found.rootstock_left_mm is None:
        return f"{short} More plants are needed, not other ones."
    thin = top if found.scion_left_mm < found.rootstock_left_mm else foot
    return f"{short} The {thin}s that are left are too thin for what is left of the others: give them a few days more, or sort both by thickness."
