"""The kilos that a block can give: its females, its stand and its pollen against what its method reckons with."""

from collections.abc import Iterable, Mapping
from dataclasses import replace

from aldrip.accounts.context import Ctx
from aldrip.accounts.events import Touched
from aldrip.base.bulk import update_rows
from aldrip.base.errors import Refused
from aldrip.batches.models import Batch, BatchStage
from aldrip.lots.models import Lot
from aldrip.methods.models import Line
from aldrip.seedcrops.flowering import match_of
from aldrip.seedcrops.laying import Layout, layout_of, load_block, plan_rows, ring_m, saved_batch
from aldrip.seedcrops.models import BlockParent, BlockSowing, FlowerObservation, SeedBlock
from aldrip_core.block_gives import BlockGives, Sown, block_gives, needed_for, stand_of
from aldrip_core.geometry import area_m2
from aldrip_core.nick import overlap_of
from aldrip_core.row_plan import RowPlan
from aldrip_core.stages import Trait

LEAST = 0.001  # of the method's kilos: a chance of nothing is told by it, and nothing is divided by nought
ENOUGH_POLLEN = 0.2  # share of the male plants that shed; as the nick has it
#: Columns on which the kilos of a block rest, by table.
RESTS_ON = {
    "seedcrops_seedblock": frozenset(
        {"outline", "pattern", "bearing_deg", "row_spacing_m", "border_rows", "headland_rows", "in_row_cm"}
        | {"establishment", "target_per_m2", "strip_left"}
    ),
    "seedcrops_blockparent": frozenset({"line_id", "sow_on", "sowings", "sowing_gap_days"}),
    "seedcrops_blocksowing": frozenset({"sown_on", "kg", "lot_id"}),
    "seedcrops_flowerobservation": frozenset({"stage", "share", "seen_on"}),
    "lots_lot": frozenset({"germination", "tgw_g"}),
    "methods_line": frozenset({"to_flower_c_d", "flower_spread_days", "flower_lasts_days", "tgw_g"}),
    "places_site": frozenset({"latitude", "monthly_c"}),
}


def for_lots(layout: Layout, lots: Mapping[str, Lot | None], lines: Mapping[str, Line]) -> Layout:
    """The layout with the establishment of each line as its lot germinates: weak seed is sown thicker."""
    own = {
        role: needed_for(share, lot.germination if (lot := lots.get(role)) else None, lines[role].crop.germination)
        for role, share in layout.establishment.items()
        if role in lines
    }
    return replace(layout, establishment={**layout.establishment, **own})


def gives_of(block: SeedBlock) -> BlockGives:
    """What a block gives of its method's kilos. The block as `load_block` loads it."""
    parents = {parent.role: parent for parent in block.parents.all()}
    layout = layout_of(block)
    if not block.pattern:
        return block_gives(stand=_drilled(block, layout, parents))
    plan = plan_rows(layout, ring_m(block), {})
    stands = {
        role: _stand(parent, plan.plants.get(role, 0.0), layout.establishment.get(role, 1.0))
        for role, parent in parents.items()
    }
    males = stands.get("M", 0.0) if plan.metres.get("M") else 0.0
    return block_gives(
        females=_females(block, plan), stand=stands.get("F", 1.0), pollen=_pollen(block, males), males=males
    )


def _females(block: SeedBlock, plan: RowPlan) -> float | None:
    """Female metres against those of the method's own pattern on the same ground; None where the method has none."""
    given = block.batch.method_snapshot["layout"]
    names = ("pattern", "row_spacing_m", "border_rows", "headland_rows")
    usual = replace(layout_of(block), **{name: given[name] for name in names if name in given})
    try:
        metres = plan_rows(usual, ring_m(block), {}).metres.get("F", 0.0) * usual.row_spacing_m
    except Refused:
        return None
    return plan.metres.get("F", 0.0) * block.row_spacing_m / metres if metres else None


def _sown(parent: BlockParent) -> tuple[Sown, ...]:
    line = parent.line
    usual = line.crop.germination or 1.0
    return tuple(
        Sown(float(one.kg), weight, one.lot.germination or usual)
        for one in parent.sown.all()
        if (weight := one.lot.tgw_g or line.tgw_g or line.crop.tgw_g)
    )


def _stand(parent: BlockParent, plants: float, establishment: float) -> float:
    usual = parent.line.crop.germination or 1.0
    return stand_of(plants=plants, establishment=establishment, usual=usual, sown=_sown(parent))


def _drilled(block: SeedBlock, layout: Layout, parents: Mapping[str, BlockParent]) -> float:
    """A drilled stand: its field factor is of living seed."""
    parent = parents.get("S")
    if parent is None:
        return 1.0
    plants = (layout.target_per_m2 or 0.0) * area_m2(ring_m(block))
    return stand_of(plants=plants, establishment=layout.establishment.get("S", 1.0), usual=1.0, sown=_sown(parent))


def _pollen(block: SeedBlock, males: float) -> float | None:
    """Share of the receptive days with pollen; None where nobody knows when the parents flower."""
    try:
        match = match_of(block)
    except Refused as refused:
        far = any(error.field == "male.sow" for error in refused.errors)
        return 0.0 if far else None  # parents that flower more than a year apart never meet
    if match.now is None:
        return None
    if 0 < males < 1:
        enough = min(1.0, ENOUGH_POLLEN / males)
        return overlap_of(match.parents["F"].parent, match.parents["M"].parent, enough)
    return match.now.overlap


def blocks_touched(ctx: Ctx, touched: Mapping[str, Touched]) -> set[int]:
    """Blocks that still give something whose kilos rest on what an act touched."""
    live = ctx.rows(SeedBlock).filter(batch__state__in=(Batch.State.PLANNED, Batch.State.SOWN))
    if touched.get("places_site") or touched.get("methods_line"):
        return set(live.values_list("pk", flat=True))
    found = set(touched["seedcrops_seedblock"].rows) if "seedcrops_seedblock" in touched else set()
    parents: set[int] = set()
    for table, model in (("seedcrops_blocksowing", BlockSowing), ("seedcrops_flowerobservation", FlowerObservation)):
        if table in touched:
            parents |= set(model.objects.filter(pk__in=touched[table].rows).values_list("parent", flat=True))
            parents |= {int(row["parent_id"]) for row in touched[table].gone}
    if "seedcrops_blockparent" in touched:
        parents |= touched["seedcrops_blockparent"].rows
    found |= set(BlockParent.objects.filter(pk__in=parents).values_list("block", flat=True))
    if "lots_lot" in touched:
        found |= set(live.filter(parents__sown__lot__in=touched["lots_lot"].rows).values_list("pk", flat=True))
    return set(live.filter(pk__in=found).values_list("pk", flat=True))


def follow_kilos(ctx: Ctx, blocks: Iterable[int]) -> set[int]:
    """Let batches reckon with what their blocks give; returns those that changed."""
    changed: list[tuple[int, float]] = []
    batches: set[int] = set()
    for pk in sorted(blocks):
        block = load_block(ctx, pk)
        saved = saved_batch(block)
        spec = saved.method.first_with(Trait.LOADS)
        if spec is None:
            continue
        try:
            share = gives_of(block).share
        except Refused:  # an outline that bears no row is refused where it is changed
            continue
        multiply = spec.factor.mean * max(LEAST, share)
        row = saved.stages[spec.key]
        if abs(row.multiply - multiply) > 1e-12:
            changed.append((row.pk, multiply))
            batches.add(block.batch_id)
    update_rows(BatchStage, ("multiply",), changed)
    return batches
