"""Seed blocks: laid out on a field, drawn, sown line by line; a change is a proposal before it is kept."""

import math
from dataclasses import dataclass, field, replace
from datetime import date, timedelta
from functools import lru_cache
from typing import Any

from django.db import models

from aldrip.accounts.context import Ctx, Ref
from aldrip.base.errors import Refused, refuse
from aldrip.batches.models import Batch, Occupancy
from aldrip.batches.saved import Saved, saved_of
from aldrip.lots.models import Lot
from aldrip.lots.taking import READY
from aldrip.methods.models import Line
from aldrip.orders.promised import shown
from aldrip.places.climate import climate_of
from aldrip.places.ground import centre_of, ring_of
from aldrip.places.models import Place
from aldrip.seedcrops.models import BlockParent, SeedBlock
from aldrip_core.flowering import Phenology, flower_date, sow_for
from aldrip_core.geometry import Point, area_m2, to_metres
from aldrip_core.isolation import Parts, common_parts, parts_without
from aldrip_core.land_history import FreeYears, Grown, objections
from aldrip_core.row_plan import RowPlan, row_plan
from aldrip_core.seed_rate import SeedRate, seed_rate
from aldrip_core.units import Unit, from_base, unit

CLEARABLE = ("planner_rows", "target_per_m2")
SAME_GROUND_M2 = 10.0  # two outlines that share no more than this only touch
ROLES = {"F": "female", "M": "male", "S": "seed"}


@dataclass(frozen=True)
class Layout:
    """How a block is laid out; what a person may change of it."""

    pattern: str
    bearing_deg: float
    row_spacing_m: float
    border_rows: int
    headland_rows: int
    planter_rows: int | None
    in_row_cm: dict[str, float]
    establishment: dict[str, float]
    target_per_m2: float | None
    sow_on: dict[str, date]
    male_sowings: int = 1
    male_gap_days: int = 0


@dataclass(frozen=True)
class LayoutChange:
    """What was typed over a layout; absent fields stay."""

    pattern: str | None = None
    bearing_deg: float | None = None
    row_spacing_m: float | None = None
    border_rows: int | None = None
    headland_rows: int | None = None
    planter_rows: int | None = None
    in_row_cm: dict[str, float] = field(default_factory=dict)
    establishment: dict[str, float] = field(default_factory=dict)
    target_per_m2: float | None = None
    sow_on: dict[str, date] = field(default_factory=dict)
    male_sowings: int | None = None
    male_gap_days: int | None = None
    clears: frozenset[str] = frozenset()  # fields that are to say nothing again

    def on(self, layout: Layout) -> Layout:
        """The layout with this change on top."""
        plain = (
            "pattern",
            "bearing_deg",
            "row_spacing_m",
            "border_rows",
            "headland_rows",
            "planter_rows",
            "target_per_m2",
            "male_sowings",
            "male_gap_days",
        )
        typed: dict[str, Any] = {name: value for name in plain if (value := getattr(self, name)) is not None}
        for name in ("in_row_cm", "establishment", "sow_on"):
            typed[name] = {**getattr(layout, name), **getattr(self, name)}
        typed |= {name: None for name in self.clears}
        return replace(layout, **typed)


def load_block(ctx: Ctx, pk: Ref, *, lock: bool = False) -> SeedBlock:
    """A block of the organisation with what its views need. Raises NotThere."""
    block = ctx.get(SeedBlock, pk, lock=lock)
    rows = SeedBlock.objects.select_related(
        "batch__crop", "batch__line", "batch__method", "batch__container", "batch__mix", "field__site"
    ).prefetch_related(
        models.Prefetch(
            "parents",
            BlockParent.objects.select_related("line__crop").prefetch_related("sown__lot", "seen").order_by("role"),
        )
    )
    return rows.get(pk=block.pk)


def saved_batch(block: SeedBlock) -> Saved:
    """The batch of a block with its stages by what they do."""
    return saved_of(block.batch, list(block.batch.stages.all()))


def kilos_of(lot: Lot) -> float:
    """What is left of a seed lot [kg]; counted seed by its thousand-grain weight, nothing where that is not known."""
    own = unit(lot.unit)
    if own.is_mass:
        return float(from_base(lot.balance, Unit.KILOGRAM))
    return float(lot.balance) * (lot.tgw_g or 0.0) / 1e6


def kilos(value: Any) -> float | None:
    """A weight as it is kept, in kilos."""
    return shown(value, Unit.KILOGRAM.words)


def ring_m(block: SeedBlock) -> tuple[Point, ...]:
    """The block's outline in metres round its site."""
    return ring_of(block.field.site, block.outline, "outline", stored=True)


def left_of(block: SeedBlock) -> Parts:
    """What still counts of a block, as rings in metres round its site; empty where all of it does."""
    if not block.strip_left:
        return []
    east, north = centre_of(block.field.site)
    return [
        [to_metres(ring, longitude=east, latitude=north) for ring in part] for part in block.strip_left["coordinates"]
    ]


def gone_of(block: SeedBlock) -> Parts:
    """What of a block counts no more, in metres round its site; empty where all of it does."""
    left = left_of(block)
    return parts_without([[ring_m(block)]], left) if left else []


def left_m2(block: SeedBlock) -> float:
    """Area that still counts: the block's, less what was left of it [m²]."""
    parts = left_of(block)
    if not parts:
        return area_m2(ring_m(block))
    return sum(area_m2(rings[0]) - sum(area_m2(hole) for hole in rings[1:]) for rings in parts)


def layout_of(block: SeedBlock) -> Layout:
    """The layout as it is saved."""
    parents = {parent.role: parent for parent in block.parents.all()}
    male = parents.get("M")
    return Layout(
        block.pattern,
        block.bearing_deg,
        block.row_spacing_m,
        block.border_rows,
        block.headland_rows,
        block.planter_rows,
        dict(block.in_row_cm),
        dict(block.establishment),
        block.target_per_m2,
        {r: p.sow_on for r, p in parents.items()},
        male.sowings if male else 1,
        male.sowing_gap_days if male else 0,
    )


def check_layout(layout: Layout) -> None:
    """Refuse what no planter can do, field by field."""
    ranges = {
        "bearing_deg": (layout.bearing_deg, -360, 360, "°"),
        "row_spacing_m": (layout.row_spacing_m, 0.05, 10, "m"),
        "border_rows": (layout.border_rows, 0, 60, "rows"),
        "headland_rows": (layout.headland_rows, 0, 60, "rows"),
        "planter_rows": (1 if layout.planter_rows is None else layout.planter_rows, 1, 60, "rows"),
        "male_sowings": (layout.male_sowings, 1, 6, "sowings"),
        "male_gap_days": (layout.male_gap_days, 0, 40, "days"),
        "target_per_m2": (1 if layout.target_per_m2 is None else layout.target_per_m2, 0.1, 2000, "plants/m²"),
        **{f"in_row_cm.{k}": (v, 1, 300, "cm") for k, v in layout.in_row_cm.items()},
        **{f"establishment.{k}": (v, 0.05, 1, "as a share") for k, v in layout.establishment.items()},
    }
    for name, (value, low, high, of) in ranges.items():
        if not low <= value <= high:
            raise refuse(name, "out_of_range", f"{value:g} cannot be here: {low:g} to {high:g} {of}.")


def tgw_for(ctx: Ctx, line: Line, lots: list[Lot] | None = None) -> tuple[float, str]:
    """Thousand-grain weight of a line [g]: of its oldest lot with seed, else the line's, else the crop's; and where from."""
    own = lots if lots is not None else list(parent_lots(ctx, [line.pk]))
    for lot in own:
        if lot.line_id == line.pk and lot.tgw_g:
            return lot.tgw_g, f"lot {lot.code}"
    if line.tgw_g:
        return line.tgw_g, "line"
    if line.crop.tgw_g:
        return line.crop.tgw_g, f"library: {line.crop.sources.get('tgw_g', '')}"
    raise refuse("tgw_g", "missing", f"{line.name} has no thousand-grain weight. Enter it with its seed lot in Lots.")


def parent_lots(ctx: Ctx, lines: list[int]) -> models.QuerySet[Lot]:
    """Seed lots of parent lines with something left, oldest first."""
    rows = ctx.rows(Lot).filter(status__in=READY, line__in=lines, form="seed", balance__gt=0, on_hold="")
    return rows.order_by("received_on", "id")


def plan_rows(layout: Layout, ring: tuple[Point, ...], tgw: dict[str, float]) -> RowPlan:
    """The row plan of a layout. Raises Refused."""
    return _plan_rows(
        ring,
        layout.bearing_deg,
        layout.row_spacing_m,
        layout.pattern,
        layout.border_rows,
        layout.headland_rows,
        layout.planter_rows,
        tuple(sorted(layout.in_row_cm.items())),
        tuple(sorted(layout.establishment.items())),
        tuple(sorted(tgw.items())),
    )


@lru_cache(maxsize=64)
def _plan_rows(
    ring: tuple[Point, ...],
    bearing: float,
    spacing: float,
    pattern: str,
    borders: int,
    headland: int,
    planter: int | None,
    in_row: tuple[tuple[str, float], ...],
    establishment: tuple[tuple[str, float], ...],
    tgw: tuple[tuple[str, float], ...],
) -> RowPlan:
    return row_plan(
        outline=ring,
        row_bearing_deg=bearing,
        row_spacing_m=spacing,
        pattern=pattern,
        border_rows=borders,
        headland_rows=headland,
        in_row_cm=dict(in_row),
        establishment=dict(establishment),
        tgw_g=dict(tgw),
        planter_rows=planter,
    )


def plan_drill(layout: Layout, ring: tuple[Point, ...], lot: Lot | None, line: Line, tgw: float) -> SeedRate:
    """The seed rate of a drilled block, from the lot's germination where it was tested."""
    germination = (lot.germination if lot else None) or line.crop.germination or 0.0
    return seed_rate(
        target_plants_per_m2=layout.target_per_m2 or 0,
        germination=germination,
        field_factor=layout.establishment.get("S", 1.0),
        tgw_g=tgw,
        area_ha=area_m2(ring) / 10_000,
        row_width_cm=layout.row_spacing_m * 100,
    )


def parent_lines(batch: Batch) -> dict[str, Line]:
    """Role → line of a seed crop. Raises Refused where the hybrid's parents are not known."""
    way, line = batch.method_snapshot.get("way"), batch.line
    if batch.line is None:
        raise refuse(
            "line_id",
            "missing",
            f"Which cultivar is {batch.code}? Name it in the order, so that its parents are known.",
        )
    if way == "hybrid" and line is not None and line.female is None and line.maintainer is not None:
        return {"F": line, "M": line.maintainer}  # what it bears is the A line again
    if way == "hybrid":
        if batch.line.female is None or batch.line.male is None:
            raise refuse(
                "line_id",
                "no_parents",
                f"The parents of {batch.line.name} are not known. Enter its female and male line in Methods, or of an A line "
                "what it is kept going with; one line alone is grown by a method of one line.",
            )
        return {"F": batch.line.female, "M": batch.line.male}
    return {"S": batch.line}


def step_of(batch: Batch) -> str:
    """What a block is in the increase of seed: an A line with its maintainer is no hybrid, whatever the method says."""
    line, given = batch.line, str(batch.method_snapshot["layout"].get("step", "open"))
    kept = line is not None and line.female_id is None and line.maintainer_id is not None
    return "increase" if kept and given == "hybrid" else given


def phenology_of(line: Line) -> Phenology:
    """What makes a line flower. Raises Refused where its heat sum is not known."""
    crop = line.crop
    if line.to_flower_c_d is None or crop.base_c is None:
        raise refuse(
            "to_flower_c_d",
            "missing",
            f"{line.name} has no heat sum to flowering. Enter it in Methods to foresee its flowering.",
        )
    return Phenology(
        line.to_flower_c_d,
        crop.base_c,
        crop.upper_c if crop.upper_c is not None else 40.0,
        line.flower_spread_days or 2.0,
        line.flower_lasts_days or 8.0,
    )


def meeting_days(lines: dict[str, Line], sow: date, place: Place) -> dict[str, date]:
    """Sowing days by role: the one that needs longer on the planned day, the other so that they flower together."""
    if set(lines) != {"F", "M"}:
        return {role: sow for role in lines}
    try:
        climate = climate_of(place)
        known = {role: phenology_of(line) for role, line in lines.items()}
        first = {role: flower_date(sow=sow, phenology=p, climate=climate).first for role, p in known.items()}
        slower = max(first, key=lambda role: first[role])
        return {
            role: sow
            if role == slower
            else max(sow, sow_for(flower_on=first[slower], phenology=known[role], climate=climate))
            for role in lines
        }
    except Refused:  # without heat sums both are sown together; the block says what is missing
        return {role: sow for role in lines}


def longest_side_bearing(ring: tuple[Point, ...]) -> float:
    """Rows along the longest side of the field: fewest turns [deg, 0-180)."""
    a, b = max(zip(ring, (*ring[1:], ring[0]), strict=True), key=lambda side: math.dist(*side))
    return round(math.degrees(math.atan2(b[0] - a[0], b[1] - a[1])) % 180, 1)


def grown_on(block: SeedBlock) -> list[Grown]:
    """What grew on the ground of a block: as it was recorded, and everything of the house's own that stood there.

    Own blocks count where they lay on the same ground; what was recorded as inspected clean is clean, whoever grew it.
    A fixed number of queries.
    """
    uses = list(block.field.land_uses.all())
    clean = {(use.year, use.crop.lower()) for use in uses if use.inspected_clean}
    found = [Grown(u.year, u.crop, u.family, u.inspected_clean) for u in uses]
    own: dict[tuple[int, str], Grown] = {}

    def grew(year: int, crop: str, family: str, code: str) -> None:
        key = (year, crop.lower())
        own.setdefault(key, Grown(year, crop, family, key in clean, f"own batch {code}"))

    begun = (Batch.State.PLANNED, Batch.State.SOWN, Batch.State.READY, Batch.State.DELIVERED)
    others = SeedBlock.objects.filter(field=block.field, batch__state__in=begun).exclude(pk=block.pk)
    here = [[ring_m(block)]]
    for other in others.select_related("batch__crop", "field__site").prefetch_related("parents").order_by("pk"):
        if common_parts(here, [[ring_m(other)]])[1] > SAME_GROUND_M2:
            crop = other.batch.crop
            grew(min(p.sow_on for p in other.parents.all()).year, crop.name, crop.family, other.batch.code)
    plants = Occupancy.objects.filter(
        place=block.field, stage__batch__seed_block=None, stage__batch__state__in=begun
    ).exclude(stage__batch=block.batch)
    names = ("stage__batch__crop__name", "stage__batch__crop__family", "stage__batch__code")
    for during, crop, family, code in plants.order_by("pk").values_list("during", *names):
        grew(during.lower.year, crop, family, code)
    return found + [one for one in own.values() if (one.year, one.crop.lower()) not in clean]


def history_objections(block: SeedBlock) -> list[str]:
    """What the ground's past says against the crop, in sentences."""
    batch = block.batch
    layout = batch.method_snapshot["layout"]
    rules = [FreeYears(seasons=int(layout.get("years_free", 2)))]
    if layout.get("family_years_free"):
        rules.append(FreeYears(seasons=int(layout["family_years_free"]), same="family"))
    year = min(parent.sow_on for parent in block.parents.all()).year
    return list(
        objections(crop=batch.crop.name, family=batch.crop.family, year=year, history=grown_on(block), rules=rules)
    )


def state_of(block: SeedBlock) -> dict[str, Any]:
    """What a change can touch, as plain data, for the audit and for undo."""
    layout = layout_of(block)
    return {
        **{n: getattr(layout, n) for n in LayoutChange.__dataclass_fields__ if n not in ("sow_on", "clears")},
        "sow_on": {role: day.isoformat() for role, day in layout.sow_on.items()},
        "version": block.version,
    }


def days_to_sow(block: SeedBlock) -> tuple[date, date]:
    """First and last planned day of sowing."""
    days = [p.sow_on + timedelta(days=p.sowing_gap_days * (p.sowings - 1)) for p in block.parents.all()]
    return min(p.sow_on for p in block.parents.all()), max(days)
