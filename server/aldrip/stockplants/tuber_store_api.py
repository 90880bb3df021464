"""The store of seed tubers by the API: what stands, what it comes to, what is drawn, turned and carried out, and lifting damage."""

from collections.abc import Mapping, Sequence
from datetime import date, datetime
from typing import Any
from uuid import UUID

from ninja import Field, Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.errors import refuse
from aldrip.base.quantity import read_count, read_found, read_measure
from aldrip.base.schemas import Done, StepOut, steps
from aldrip.base.words import day, number, plural, share, who
from aldrip.lots.models import Movement
from aldrip.stockplants import tuber_store as store
from aldrip.stockplants.models import LiftingSample, TuberStack
from aldrip_core.tuber_store import (
    LIMIT,
    TURN_DAYS,
    WANTED_MM,
    Held,
    Plot,
    Sampled,
    StoreHabit,
    cover_m,
    damage_chart,
    plant_out,
)

room = Room("stockplants")
MOST_SHOWN = 500  # ranges of stacks, the newest
MOST_SAMPLES = 60  # of the newest, on the chart


class TuberCheckOut(Schema):
    id: int
    on: date
    trays: int
    looked: int
    bad: int
    limit: float
    reject_at: int
    rejected: bool
    sprout_mm: float | None
    by: str
    note: str


class CarriedOut(Schema):
    on: date
    tubers: int
    to: str
    thrown: bool
    by: str


class TuberStackOut(Schema):
    """`state`: rejected, unseen or passed; `ready_on`: when its sprouts are as long as wanted, as they grew between two readings."""

    id: int
    uuid: UUID
    lot: str
    lot_id: int
    crop: str
    line: str
    place: str
    grade: int
    first: int
    last: int
    trays_a_stack: int
    a_tray: int
    tuber_g: float
    left: int
    left_tubers: int
    kg: float
    stood_on: date
    turn_on: date | None
    late: bool
    state: str
    sentence: str
    sprout_mm: float | None
    ready_on: date | None
    on_hold: str
    checks: list[TuberCheckOut]
    out: list[CarriedOut]


class LiftingSampleOut(Schema):
    """`share` against the limits of what is usual for so many looked at [0-1]."""

    id: int
    at: datetime
    crew: str
    looked: int
    damaged: int
    share: float
    low: float
    high: float
    outside: bool
    by: str


class TuberStoreOut(Schema):
    sentence: str
    stacks: list[TuberStackOut]
    samples: list[LiftingSampleOut]  # oldest first
    usual: float  # share of lifting damage
    damage_sentence: str


def stack_out(
    ctx: Ctx, stack: TuberStack, carried: Mapping[UUID, Sequence[Movement]], wanted_mm: float = WANTED_MM
) -> dict[str, Any]:
    newest, due = store.newest_check(stack), store.due_on(stack)
    read = [one for one in stack.checks.all() if one.sprout_mm is not None]
    ready = store.sprouts(ctx, stack, wanted_mm)[1] if stack.left else None
    state = "unseen" if newest is None else "rejected" if newest.rejected else "passed"
    told = {
        "unseen": "Nobody has looked through them yet.",
        "rejected": f"Rejected on {day(ctx.local(newest.happened_at).date())}: {newest.bad:,} of {newest.looked:,} below standard. Sort them and look again."
        if newest
        else "",
        "passed": f"Passed on {day(ctx.local(newest.happened_at).date())}, {newest.bad:,} of {newest.looked:,} below standard."
        if newest
        else "",
    }[state]
    names = ("id", "uuid", "lot_id", "grade", "first", "last", "trays_a_stack", "a_tray", "tuber_g", "left")
    return {
        **{name: getattr(stack, name) for name in names},
        "lot": stack.lot.code,
        "crop": stack.lot.crop.name,
        "line": stack.lot.line.name if stack.lot.line else "",
        "place": stack.place.name if stack.place else "",
        "left_tubers": stack.left_tubers,
        "kg": stack.left_tubers * stack.tuber_g / 1000,
        "stood_on": stack.stood_on,
        "turn_on": due,
        "late": due is not None and due < ctx.today,
        "state": state,
        "sentence": f"Held: {stack.lot.on_hold}." if stack.lot.on_hold else told if stack.left else "All carried out.",
        "sprout_mm": max(read, key=lambda one: (one.happened_at, one.pk)).sprout_mm if read else None,
        "ready_on": ready,
        "on_hold": stack.lot.on_hold,
        "checks": [
            {
                **{
                    name: getattr(one, name)
                    for name in ("id", "trays", "looked", "bad", "limit", "reject_at", "rejected", "sprout_mm")
                },
                "on": ctx.local(one.happened_at).date(),
                "by": who(one.by),
                "note": one.reason,
            }
            for one in sorted(stack.checks.all(), key=lambda check: (check.happened_at, check.pk), reverse=True)
        ],
        "out": [
            {
                "on": ctx.local(one.happened_at).date(),
                "tubers": int(-one.quantity),
                "to": one.reason,
                "thrown": one.kind == store.THROWN,
                "by": who(one.by),
            }
            for one in carried.get(stack.uuid, ())
        ],
    }


@room.get("/tubers", "see", response=TuberStoreOut)
def tuber_store(ctx: Ctx, older: bool = False, sprout_mm: float = WANTED_MM) -> Any:
    """What stands in the store, with `older` what was carried out too, and the chart of lifting damage."""
    if not 0 < sprout_mm <= 1000:
        raise refuse("sprout_mm", "out_of_range", "How long are sprouts to be at planting? 1 to 1,000 mm.")
    rows = list((store.shown(ctx) if older else store.in_store(ctx)).order_by("-first")[:MOST_SHOWN])[::-1]
    carried = store.carried(ctx, rows)
    trays, tubers, stacks = store.totals(ctx)
    samples = list(ctx.rows(LiftingSample).select_related("by").order_by("-happened_at", "-pk")[:MOST_SAMPLES])[::-1]
    usual, chart = damage_chart([(one.looked, one.damaged) for one in samples])
    return {
        "sentence": f"{plural(trays, 'tray')}, {plural(tubers, 'tuber')} in {plural(stacks, 'stack')}"
        if trays
        else "nothing stands",
        "stacks": [stack_out(ctx, one, carried, sprout_mm) for one in rows],
        "samples": [
            {
                "id": one.pk,
                "at": one.happened_at,
                "crew": one.crew,
                "looked": one.looked,
                "damaged": one.damaged,
                "by": who(one.by),
                **{name: getattr(drawn, name) for name in ("share", "low", "high", "outside")},
            }
            for one, drawn in zip(samples, chart, strict=True)
        ],
        "usual": usual,
        "damage_sentence": damage_words(samples, usual, chart),
    }


def damage_words(samples: Sequence[LiftingSample], usual: float, chart: Sequence[Sampled]) -> str:
    """What the chart says of the newest samples."""
    if len(samples) < 2:
        return "Two samples and more show what is usual." if samples else ""
    newest, drawn = samples[-1], chart[-1]
    told = f"Usual is {share(usual, 1)}."
    if drawn.outside and drawn.share > usual:
        found = f"{newest.crew}: {share(drawn.share, 1)} damaged is more than the {share(drawn.high, 1)} that is still usual."
        return f"{found} Find out why before lifting on: depth of the share, speed, skins that are not set, drops. Stop the machine before anybody reaches into it. {told}"
    above = sum(one.outside and one.share > usual for one in chart)
    before = f" {plural(above, 'sample')} before {'was' if above == 1 else 'were'} above." if above else ""
    where = "less than usual" if drawn.outside else "within it"
    return f"{told} The newest, {share(drawn.share, 1)}, is {where}.{before}"


class LoadIn(Schema):
    """As typed: “2.5 t”, “60 g”, “180”."""

    grade: int
    kg: str = Field(max_length=30)
    tuber_g: str = Field(max_length=30)
    a_tray: str = Field(max_length=20)


class LoadsIn(Schema):
    loads: list[LoadIn] = Field(max_length=20)
    trays_a_stack: str = Field("40", max_length=20)
    stack_m2: str = Field("1.2", max_length=20)
    gangway_percent: str = Field("25", max_length=20)
    an_hour: str = Field("15", max_length=20)

    def read(self) -> tuple[list[store.Load], StoreHabit]:
        loads = [
            store.Load(
                one.grade,
                read_measure(one.kg, "kg", f"loads.{n}.kg"),
                read_measure(one.tuber_g, "g", f"loads.{n}.tuber_g"),
                read_count(one.a_tray, f"loads.{n}.a_tray", "tubers"),
            )
            for n, one in enumerate(self.loads)
        ]
        habit = StoreHabit(
            read_count(self.trays_a_stack, "trays_a_stack", "trays"),
            read_measure(self.stack_m2, "m²", "stack_m2"),
            read_measure(self.gangway_percent, "%", "gangway_percent") / 100,
            read_measure(self.an_hour, "", "an_hour"),
        )
        return loads, habit


class StoodOut(Schema):
    grade: int
    tubers: int
    trays: int
    stacks: int
    floor_m2: float
    hours: float
    working: list[StepOut]


class LoadDraftOut(Schema):
    grades: list[StoodOut]
    trays: int
    stacks: int
    floor_m2: float
    hours: float


@room.post("/tubers/draft", "see", response=LoadDraftOut)
def tuber_draft(ctx: Ctx, body: LoadsIn) -> Any:
    """What a load comes to by grade: trays, stacks, floor, hours. Nothing is saved."""
    del ctx
    loads, habit = body.read()
    found = store.reckon(loads, habit)
    names = ("tubers", "trays", "stacks", "floor_m2", "hours")
    return {
        "grades": [
            {"grade": load.grade, **{name: getattr(one, name) for name in names}, "working": steps(one.working)}
            for load, one in zip(loads, found, strict=True)
        ],
        **{name: sum(getattr(one, name) for one in found) for name in names[1:]},
    }


class StandTubersIn(LoadsIn):
    lot_id: Ref
    place_id: Ref | None = None
    on: date | None = None
    turn_every: int = TURN_DAYS
    client_uuid: UUID


@room.post("/tubers", "tubers.store", response=Done)
def stand(ctx: Ctx, body: StandTubersIn) -> Any:
    """Tubers of a lot stand in trays."""
    loads, habit = body.read()
    made = store.stand(
        ctx,
        body.lot_id,
        loads,
        habit,
        place_id=body.place_id,
        on=body.on,
        client_uuid=body.client_uuid,
        turn_every=body.turn_every,
    )
    return Done(id=made[0].pk, message=f"They stand, from stack {made[0].first} on.")


class DrawnTrayOut(Schema):
    stack: int
    tray: int  # from the top


@room.get("/tubers/{ref:stack_id}/drawn", "see", response=list[DrawnTrayOut])
def drawn(ctx: Ctx, stack_id: Ref, limit_percent: float = LIMIT * 100) -> Any:
    """Which trays are drawn to be looked through, so that they can tell whether a limit is kept."""
    found = store.drawn(ctx.get(TuberStack, stack_id), limit_percent / 100)
    return [{"stack": stack, "tray": tray} for stack, tray in found[:500]]


class LookIn(Schema):
    """As typed; `sprout_mm`: the longest that is usual in them, empty where it was not read."""

    trays: str = Field(max_length=20)
    looked: str = Field(max_length=20)
    bad: str = Field("0", max_length=20)
    limit_percent: str = Field("2", max_length=20)
    sprout_mm: str = Field("", max_length=20)
    note: str = Field("", max_length=300)
    client_uuid: UUID


def _one(ctx: Ctx, stack_id: int) -> Any:
    found = store.shown(ctx).get(pk=stack_id)
    return stack_out(ctx, found, store.carried(ctx, [found]))


@room.post("/tubers/{ref:stack_id}/look", "tubers.look", response=TuberStackOut)
def look(ctx: Ctx, stack_id: Ref, body: LookIn) -> Any:
    """Trays were drawn and looked through."""
    made = store.look(
        ctx,
        stack_id,
        trays=read_count(body.trays, "trays", "trays"),
        looked=read_count(body.looked, "looked", "tubers"),
        bad=read_found(body.bad, "bad"),
        limit=read_measure(body.limit_percent, "%", "limit_percent") / 100,
        client_uuid=body.client_uuid,
        sprout_mm=read_measure(body.sprout_mm, "mm", "sprout_mm") if body.sprout_mm.strip() else None,
        note=body.note,
    )
    return _one(ctx, made.stack_id)


@room.post("/tubers/{ref:stack_id}/turn", "tubers.look", response=TuberStackOut)
def turn(ctx: Ctx, stack_id: Ref) -> Any:
    """Stacks were moved."""
    return _one(ctx, store.turn(ctx, stack_id).pk)


class CarryOutIn(Schema):
    """`thrown`: they were thrown away; `to` says why then."""

    trays: str = Field(max_length=20)
    thrown: bool = False
    to: str = Field(max_length=300)
    client_uuid: UUID


@room.post("/tubers/{ref:stack_id}/out", "tubers.store", response=TuberStackOut)
def carry_out(ctx: Ctx, stack_id: Ref, body: CarryOutIn) -> Any:
    """Trays went out to be planted."""
    trays = read_count(body.trays, "trays", "trays")
    stack = store.carry_out(ctx, stack_id, trays=trays, to=body.to, client_uuid=body.client_uuid, thrown=body.thrown)
    return _one(ctx, stack.pk)


class SampleIn(Schema):
    crew: str = Field(max_length=60)
    looked: str = Field(max_length=20)
    damaged: str = Field("0", max_length=20)
    note: str = Field("", max_length=300)
    client_uuid: UUID


@room.post("/tubers/samples", "tubers.look", response=Done)
def sample(ctx: Ctx, body: SampleIn) -> Any:
    """A digging crew looked through what it lifted."""
    made = store.sample(
        ctx,
        crew=body.crew,
        looked=read_count(body.looked, "looked", "tubers"),
        damaged=read_found(body.damaged, "damaged"),
        client_uuid=body.client_uuid,
        note=body.note,
    )
    return Done(id=made.pk, message=f"{share(made.damaged / made.looked, 1)} damaged.")


class PlotIn(Schema):
    """As typed: “1.2 ha”, “75 cm”, “30 cm”."""

    name: str = Field(max_length=60)
    area: str = Field(max_length=30)
    row: str = Field(max_length=30)
    in_row: str = Field(max_length=30)
    sheet: str = Field("", max_length=30)


class PlantingListIn(Schema):
    """`crop`: of which crop; plots earliest first."""

    crop: str = Field(max_length=120)
    plots: list[PlotIn] = Field(max_length=60)
    overlap: str = Field("0.5 m", max_length=30)


class TuberPlantingOut(Schema):
    plot: str
    grade: int
    first: int
    last: int
    tubers: int
    trays: int
    kg: float
    t_per_ha: float


class PlotOut(Schema):
    name: str
    wants: int
    lacks: int
    cover_m: float | None


class PlantingListOut(Schema):
    plantings: list[TuberPlantingOut]
    plots: list[PlotOut]
    left_tubers: int
    sentence: str


@room.post("/tubers/planting-list", "see", response=PlantingListOut)
def planting_list(ctx: Ctx, body: PlantingListIn) -> Any:
    """Which stacks go where, earliest ground first, largest tubers first; what was rejected or is held is left out. Nothing is saved."""
    rows = [
        one
        for one in store.in_store(ctx).filter(lot__crop__name=body.crop, lot__on_hold="")
        if (newest := store.newest_check(one)) is None or not newest.rejected
    ]
    rows.sort(key=lambda one: (-one.tuber_g, one.first))
    if not body.plots:
        raise refuse("plots", "missing", "Where is to be planted? Name one place at least.")
    plots = [
        Plot(
            f"{n}",
            _more_than_nothing(one.area, "m²", f"plots.{n}.area"),
            _more_than_nothing(one.row, "cm", f"plots.{n}.row"),
            _more_than_nothing(one.in_row, "cm", f"plots.{n}.in_row"),
        )
        for n, one in enumerate(body.plots)
    ]
    held = [Held(f"{one.pk}", one.left_tubers, one.tuber_g, one.a_tray) for one in rows]
    found, short = plant_out(held, plots)
    of = {f"{one.pk}": one for one in rows}
    overlap = read_measure(body.overlap, "m", "overlap") if body.overlap.strip() else 0.0
    left = sum(one.tubers for one in held) - sum(one.tubers for one in found)
    lacks = sum(short.values())
    told = (
        f"{number(lacks)} tubers are lacking in {plural(len(short), 'place')}."
        if lacks
        else f"Every place is full; {plural(left, 'tuber')} stay in the store."
    )
    unseen = sorted({of[one.held].first for one in found if store.newest_check(of[one.held]) is None})
    if unseen:
        told += f" Nobody has looked through the stacks from {', '.join(str(one) for one in unseen)} on yet."
    return {
        "plantings": [
            {
                "plot": body.plots[int(one.plot)].name,
                **{name: getattr(of[one.held], name) for name in ("grade", "first", "last")},
                **{name: getattr(one, name) for name in ("tubers", "trays", "kg", "t_per_ha")},
            }
            for one in found
        ],
        "plots": [
            {
                "name": typed.name,
                "wants": plot.wants,
                "lacks": short.get(plot.key, 0),
                "cover_m": _cover(typed, plot, overlap, n),
            }
            for n, (typed, plot) in enumerate(zip(body.plots, plots, strict=True))
        ],
        "left_tubers": left,
        "sentence": told,
    }


def _more_than_nothing(text: str, unit: str, field: str) -> float:
    value = read_measure(text, unit, field)
    if value <= 0:
        raise refuse(field, "out_of_range", f"{text.strip()} cannot be: more than nothing.")
    return value


def _cover(typed: PlotIn, plot: Plot, overlap: float, n: int) -> float | None:
    if not typed.sheet.strip():
        return None
    wide = read_measure(typed.sheet, "m", f"plots.{n}.sheet")
    return float(cover_m(area_m2=plot.area_m2, sheet_m=wide, overlap_m=overlap)[0].value or 0)
