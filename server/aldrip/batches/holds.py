"""What a hold reaches: lots made of lots, batches started of them, and what those gave; kept beside lots and batches."""

from collections import defaultdict
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from uuid import UUID

from aldrip.accounts.context import Ctx
from aldrip.accounts.events import Touched
from aldrip.base.bulk import update_rows
from aldrip.batches.forecasting import LIVE, refresh
from aldrip.batches.models import Batch, BatchInput, SetAside, Yield
from aldrip.lots.holds import open_holds
from aldrip.lots.models import Hold, Lot, LotParent

FOLLOWED = {
    "lots_hold": frozenset({"lot_id"}),
    "lots_holdlift": frozenset({"hold_id"}),
    "lots_lotparent": frozenset({"parent_id", "child_id"}),
    "batches_batchinput": frozenset({"lot_id", "upstream_id", "taken_on"}),
    "batches_yield": frozenset({"lot_id"}),
}


@dataclass
class Reach:
    """Lots and batches that a hold holds, and batches that are only meant to be started of them."""

    lots: set[int] = field(default_factory=set)
    batches: set[int] = field(default_factory=set)
    meant: set[int] = field(default_factory=set)


def reach_of(hold: Hold) -> Reach:
    """Everything made of a held lot, but for what was cleared and what is made of that. A few queries a generation."""
    cleared = {one.lot_id for one in hold.lifts.all() if one.lot_id is not None}
    found = Reach(lots={hold.lot_id})
    fresh, grown = {hold.lot_id}, set[int]()
    while fresh or grown:
        inputs = BatchInput.objects.filter(lot__in=fresh).values_list("stage__batch", "taken_on")
        fed = BatchInput.objects.filter(upstream__batch__in=grown).values_list("stage__batch", "taken_on")
        next_grown: set[int] = set()
        for batch, taken in (*inputs, *(fed if grown else ())):
            (next_grown if taken is not None else found.meant).add(batch)
        made = set(LotParent.objects.filter(parent__in=fresh).values_list("child", flat=True))
        next_grown -= found.batches
        given = set(Yield.objects.filter(stage__batch__in=next_grown).values_list("lot", flat=True))
        fresh = (made | given) - cleared - found.lots
        grown = next_grown
        found.lots |= fresh
        found.batches |= grown
    found.meant -= found.batches
    return found


def lots_reached(ctx: Ctx, hold: Hold) -> set[int]:
    """Lots that a hold reaches."""
    return reach_of(hold).lots


def follow_holds(ctx: Ctx, touched: Mapping[str, Touched]) -> None:
    """Let every lot and batch say by which hold it is held; nothing is done where nothing is and was held."""
    holds = open_holds(ctx)
    lots_before = dict(ctx.rows(Lot).exclude(on_hold="").values_list("pk", "on_hold"))
    if not holds and not lots_before and not touched.keys() & {"lots_hold", "lots_holdlift"}:
        return
    batches_before = dict(ctx.rows(Batch).exclude(on_hold="").values_list("pk", "on_hold"))
    lots: dict[int, list[str]] = defaultdict(list)
    batches: dict[int, list[str]] = defaultdict(list)
    for one in holds:
        reach, since = reach_of(one), ctx.local(one.happened_at)
        told = f"held since {since.day} {since:%b} with everything made of lot {one.lot.code}: {one.reason}"
        for pk in reach.lots:
            lots[pk].append(told)
        for pk in reach.batches:
            batches[pk].append(told)
        for pk in reach.meant:
            batches[pk].append(f"what it is to be started from is {told}")
    changed_lots = _changed(lots_before, lots)
    changed_batches = _changed(batches_before, batches)
    update_rows(Lot, ("on_hold",), changed_lots)
    update_rows(Batch, ("on_hold",), changed_batches)
    if changed_lots or changed_batches:
        pks = [pk for pk, _ in changed_lots]
        live = set(
            ctx.rows(Batch)
            .filter(pk__in=[pk for pk, _ in changed_batches], state__in=LIVE)
            .values_list("pk", flat=True)
        )
        live |= set(
            Yield.objects.filter(lot__in=pks, stage__batch__state__in=LIVE).values_list("stage__batch", flat=True)
        )
        lines = set(SetAside.objects.filter(lot__in=pks).values_list("order_line", flat=True))
        refresh(ctx, batches=live, lines=lines)


def _changed(before: Mapping[int, str], now: Mapping[int, list[str]]) -> list[tuple[int, str]]:
    told = {pk: "; ".join(dict.fromkeys(said))[:300] for pk, said in now.items()}
    return [(pk, told.get(pk, "")) for pk in {*before, *told} if told.get(pk, "") != before.get(pk, "")]


def batches_held(ctx: Ctx, uuids: Collection[UUID]) -> Mapping[UUID, str]:
    """Of batches by their uuids: by which hold they are held, in words."""
    return dict(ctx.rows(Batch).filter(uuid__in=uuids).exclude(on_hold="").values_list("uuid", "on_hold"))
