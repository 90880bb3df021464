"""What the batches room takes and answers."""

import uuid
from datetime import date, datetime
from typing import Literal
from uuid import UUID

from ninja import Field, Schema

from aldrip.accounts.api import AuditOut
from aldrip.base.errors import refuse
from aldrip.base.schemas import BatchState, LineState, Scalar, StepOut, TaskState
from aldrip.base.typed import Count, MaybeCount, MaybeShare, Number, Share
from aldrip.batches import editing
from aldrip.batches.commands import Command
from aldrip.batches.starting import NewBatch
from aldrip_core.batch_plan import TypedRate
from aldrip_core.oversow import chance_worth


class BatchOut(Schema):
    id: int
    uuid: UUID
    code: str
    version: int
    state: BatchState
    crop: str
    crop_id: int
    cultivar: str
    method: str
    form: str
    unit: str
    start_unit: str
    by_seed: bool
    takes: str  # what it begins with: seed, cutting, scion …
    joins: str  # what that is joined with, one to one; empty where nothing is
    needed: float
    start: int
    start_typed: bool
    way: str
    trays: int | None
    whole_trays: bool  # whether what it starts with fills its trays
    seeds: float | None
    seed_g: float | None
    container: str
    container_id: int | None
    lot_id: int | None
    lot: str
    lot_left: float | None
    lot_unit: str
    pinned: bool
    expected: float
    low: float | None
    high: float | None
    chance_wanted: float
    planned_chance: float
    counted: float | None
    tops_up_id: int | None
    decide_by: date | None
    decide_text: str
    sow_on: date
    ready_on: date
    stage_now: str
    place_now: str
    note: str


class BatchRow(Schema):
    """A batch as the list shows it."""

    id: int
    code: str
    state: BatchState
    crop: str
    cultivar: str
    form: str
    way: str
    start: int
    trays: int | None
    needed: float
    expected: float
    counted: float | None
    lot_id: int | None
    lot: str
    decide_by: date | None
    sow_on: date
    ready_on: date
    stage_now: str
    place_now: str


class BandOut(Schema):
    middle: float
    low: float
    high: float


class RateOut(Schema):
    mean: float
    sd: float
    origin: str
    source: str
    words: str


class RungOut(Schema):
    key: str
    kind: str
    stage: str
    name: str
    unit: str
    date: date | None
    place: str
    until: str = ""
    place_id: int | None
    value: float
    needed: float | None
    band: BandOut | None
    counted_share: float | None
    counted: float | None
    rate: RateOut | None
    editable: bool


class StageTimeOut(Schema):
    key: str
    order: int
    name: str
    kind: str
    start: date
    end: date
    place: str
    place_id: int | None
    unit: str
    happened: bool
    running: bool
    starts: bool
    yields: bool
    grades: bool


class BatchOrderOut(Schema):
    line_id: int
    number: str
    customer: str
    quantity: float
    allocated: float
    unit: str
    form: str
    due_from: date
    due_last: date
    chance: float | None
    state: LineState
    problem: str
    delivered: float


class FuturesOut(Schema):
    """How likely each outcome is, in bars of `width` units from `first` on."""

    first: float
    width: float
    chances: list[float]


class ForecastOut(Schema):
    expected: float
    low: int
    high: int
    needed: float
    chance: float
    short: int
    batches: int
    futures: FuturesOut | None


class OfferOut(Schema):
    trays: int
    cells: int
    grams: float | None
    lot: str
    sow_on: date
    last_day: date
    chance_before: float
    chance_after: float
    short: int
    space: float
    ready_on: date
    problems: list[str]


class OverOut(Schema):
    start: date
    end: date
    amount: float


class SpaceOut(Schema):
    place_id: int
    place: str
    unit: str
    peak: float
    over: list[OverOut]


class CountOut(Schema):
    id: int
    kind: str
    sampled: int
    found: int
    cause: str
    happened_at: datetime
    by: str
    parts: int


class BatchTaskOut(Schema):
    id: int
    kind: str
    title: str
    due: date
    state: TaskState
    quantity: float | None
    unit: str
    place: str
    part_of_day: str


class YieldOut(Schema):
    lot_id: int
    lot: str
    form: str
    stage: str
    quantity: float
    unit: str


class InputOut(Schema):
    lot_id: int | None
    lot: str
    batch: str
    part: str
    taken_on: date | None
    quantity: float
    unit: str


class InTimeOut(Schema):
    ready_on: date
    give_days: float
    last_day: date | None
    chance: float | None
    days_wanted: int | None


class LadderOut(BatchOut):
    orders: list[BatchOrderOut]
    rungs: list[RungOut]
    stages: list[StageTimeOut]
    forecast: ForecastOut | None
    offer: OfferOut | None
    space: list[SpaceOut]
    problems: list[str]
    workings: dict[str, list[StepOut]]
    counts: list[CountOut]
    tasks: list[BatchTaskOut]
    history: list[AuditOut]
    lost: int
    yield_lot: str | None
    yield_quantity: float | None
    yields: list[YieldOut]
    inputs: list[InputOut]
    next_stage: str | None
    in_time: InTimeOut | None


class BodyOut(Schema):
    batch_id: int
    code: str
    crop: str
    stage: str
    name: str
    start: date
    end: date
    amount: float
    state: BatchState
    version: int
    decide_by: date | None


class ClosingLaneOut(Schema):
    """Days `[start, end)` on which a place holds no more than so much."""

    start: date
    end: date
    holds: float


class LaneOut(Schema):
    place_id: int
    name: str
    kind: str
    unit: str
    usable: float
    set_point_c: float | None
    now: float
    peak: float
    peak_on: date
    load: list[float]
    over: list[OverOut]
    closings: list[ClosingLaneOut]
    bodies: list[BodyOut]


class BoardOut(Schema):
    start: date
    end: date
    lanes: list[LaneOut]


class TraysOut(Schema):
    name: str
    by_week: list[int]


class SumsOut(Schema):
    """By week from a Monday on; `hours_week`: what people have, where the house says."""

    first: date
    hours: list[float]
    hours_week: int | None
    trays: list[TraysOut]


class RateIn(Schema):
    mean: Share = Field(ge=0, le=1)
    sd: Share = Field(default=0, ge=0, le=0.5)
    reason: str


class RungIn(Schema):
    stage: str = Field(max_length=40)
    quantity: float = Field(gt=0, le=1e7)


class PlaceShareIn(Schema):
    place_id: int
    share: float = Field(gt=0, le=1)


class LotShareIn(Schema):
    lot_id: int
    share: float = Field(gt=0, le=1)


class TypedRungIn(Schema):
    """What a person typed on a rung of the ladder, as typed."""

    rung: str = Field(max_length=50)
    text: str = Field(max_length=60)


class CostsIn(Schema):
    """What one too many and one missing cost, in the same money: the chance that is wanted follows from them."""

    surplus: Number
    short: Number


class ChangeIn(Schema):
    needed: float | None = Field(default=None, gt=0, le=10_000_000)
    chance: MaybeShare = Field(default=None, gt=0, lt=1)
    costs: CostsIn | None = None
    rung: RungIn | None = None
    start: int | None = Field(default=None, ge=1, le=10_000_000)
    trays: int | None = Field(default=None, ge=1, le=1_000_000)
    seed_g: float | None = Field(default=None, gt=0, le=1e9)
    sow_on: date | None = None
    ready_on: date | None = None
    shift_days: int | None = Field(default=None, ge=-400, le=400)
    stage: str | None = Field(default=None, max_length=40)
    place_id: int | None = None
    split: list[PlaceShareIn] = Field(default=[], max_length=20)
    container_id: int | None = None
    lot_id: int | None = None
    lots: list[LotShareIn] = Field(default=[], max_length=20)
    rate: RateIn | None = None
    typed: TypedRungIn | None = None
    back_to_planned: bool = False

    def change(self) -> editing.Change:
        given = self.dict(exclude={"rung", "rate", "split", "lots", "typed", "costs"})
        if self.costs is not None:
            given["chance"] = chance_worth(cost_surplus=self.costs.surplus, cost_short=self.costs.short)
        rate = None
        if self.rate is not None:
            if not self.rate.reason.strip():
                raise refuse("rate.reason", "missing", "Say why this rate is another one; the reason stays beside it.")
            rate = TypedRate(self.rate.mean, self.rate.sd, self.rate.reason.strip()[:180])
        rung = (self.rung.stage, self.rung.quantity) if self.rung else None
        split = tuple((one.place_id, one.share) for one in self.split)
        lots = tuple((one.lot_id, one.share) for one in self.lots)
        typed = (self.typed.rung, self.typed.text) if self.typed else None
        return editing.Change(rung=rung, rate=rate, split=split, lots=lots, typed=typed, **given)


class FigureOut(Schema):
    name: str
    before: Scalar
    after: Scalar
    unit: str
    note: str
    kind: str
    worse: bool


class OrderEffectOut(Schema):
    line_id: int
    number: str
    customer: str
    quantity: float
    due_last: date
    before: float | None
    after: float | None


class MovedStageOut(Schema):
    stage: str
    name: str
    start: date
    end: date
    place_id: int | None
    amount: float


class WouldLoadOut(Schema):
    """What would stand in a place by day, from a day on."""

    place_id: int
    start: date
    load: list[float]


class ProposalOut(Schema):
    sentence: str
    figures: list[FigureOut]
    orders: list[OrderEffectOut]
    problems: list[str]
    version: int
    stages: list[MovedStageOut]
    event: int | None
    shift_days: int | None
    loads: list[WouldLoadOut]


class PlaceOfferOut(Schema):
    """A place for a stage, how full it would be at most (1: just full), and that in words."""

    place_id: int
    name: str
    kind: str
    of_kind: bool
    share: float
    words: str


class KeepIn(Schema):
    version: int
    change: ChangeIn


#: What can be done to an order line or a batch, in one proposal.
Doing = Literal["change", "split", "join", "cancel", "give", "take_off", "raise", "edit"]


class CommandIn(Schema):
    """One thing to do; quantities and days as they were typed."""

    do: Doing
    line: int | UUID | None = None
    batch: int | UUID | None = None
    lot: int | UUID | None = None
    other: int | UUID | None = None
    crop: str | None = Field(default=None, max_length=120)
    cultivar: str | None = Field(default=None, max_length=120)
    form: str | None = Field(default=None, max_length=40)
    container: str | None = Field(default=None, max_length=120)
    seed_class: str | None = Field(default=None, max_length=40)
    quantity: str | None = Field(default=None, max_length=60)
    due: str | None = Field(default=None, max_length=60)
    until: str | None = Field(default=None, max_length=60)
    note: str | None = Field(default=None, max_length=300)
    reason: str | None = Field(default=None, max_length=300)
    change: ChangeIn | None = None

    def command(self) -> Command:
        own = {"do", "line", "batch", "lot", "other", "change"}
        typed = {name: value for name, value in self.dict(exclude=own).items() if value is not None}
        change = self.change.change() if self.change is not None else None
        return Command(self.do, self.line, self.batch, self.lot, self.other, typed, change)


class ProposeIn(Schema):
    """`cover`: what is missing afterwards is raised in a new batch."""

    commands: list[CommandIn] = Field(min_length=1, max_length=200)
    cover: bool = True


class ConsequencesOut(Schema):
    sentence: str
    figures: list[FigureOut]
    orders: list[OrderEffectOut]
    problems: list[str]
    versions: dict[str, int]


class KeepProposalIn(ProposeIn):
    versions: dict[UUID, int] = Field(max_length=20_000)


class KeptProposalOut(Schema):
    """What was kept, and the record by which it is undone."""

    id: int
    sentence: str


class StandingForOut(Schema):
    batch_id: int | None
    lot_id: int | None
    code: str
    quantity: float
    unit: str
    ready_on: date
    state: str


class PlanLinesIn(Schema):
    lines: list[int] | None = None


class UnplannedOut(Schema):
    line: int
    number: str
    reason: str


class PlanLinesOut(Schema):
    job: int | None = None
    given: int = 0
    planned: int
    late: int
    batches: list[int]
    unplanned: list[UnplannedOut]


class AskIn(Schema):
    crop_id: int
    line_id: int | None = None
    form: str
    quantity: str
    due: str
    for_line: int | None = None  # an order line whose cures are wanted: its own batches are no hindrance to it


class AskLimitOut(Schema):
    kind: str
    sentence: str


class RemedyOut(Schema):
    kind: str
    sentence: str
    ready_on: date | None
    quantity: int | None


class AskOut(Schema):
    can: bool
    sentence: str
    sow_on: date
    ready_on: date
    earliest: date | None
    trays: int | None
    start: int
    seed_g: float | None
    chance: float
    limits: list[AskLimitOut]
    remedies: list[RemedyOut]
    working: list[StepOut]


class FromBatchIn(Schema):
    batch_id: int
    stage: str = Field(max_length=40)


class NewBatchIn(Schema):
    crop_id: int
    method_id: int
    line_id: int | None = None
    needed: float | str | None = None
    ready_on: date
    order_line_id: int | None = None
    order_line_ids: list[int] = Field(default=[], max_length=200)
    lot_ids: list[int] = Field(default=[], max_length=20)
    from_batch: FromBatchIn | None = None

    def asked(self, needed: float | None) -> NewBatch:
        lines = (*((self.order_line_id,) if self.order_line_id is not None else ()), *self.order_line_ids)
        source = (self.from_batch.batch_id, self.from_batch.stage) if self.from_batch else None
        return NewBatch(
            self.crop_id, self.method_id, self.ready_on, needed, self.line_id, lines, tuple(self.lot_ids), source
        )


class LineChange(Schema):
    version: int
    cultivar: str | None = None
    seed_class: str | None = None
    container: str | None = None
    quantity: str | None = None
    due: str | None = None
    until: str | None = None
    note: str | None = None


class CancelIn(Schema):
    reason: str = Field(max_length=300)


class SownFromIn(Schema):
    lot_id: int
    quantity: str = Field(default="", max_length=60)
    part: str = Field(default="", max_length=12)  # which of two that are joined: scion or rootstock


class SownIn(Schema):
    on: date
    trays: MaybeCount = Field(default=None, ge=1, le=1_000_000)
    start: MaybeCount = Field(default=None, ge=1, le=10_000_000)
    grams: float | None = Field(default=None, gt=0, le=1e9)
    lot_id: int | None = None
    lots: list[SownFromIn] = Field(default=[], max_length=20)
    version: int | None = None
    note: str = Field(default="", max_length=300)
    medium_id: int | None = None
    medium_litres: str = Field(default="", max_length=30)  # as typed; empty for what its trays take


class FilledFromIn(Schema):
    medium_id: int
    medium_litres: str = Field(default="", max_length=30)
    on: date | None = None


class CorrectSowingIn(Schema):
    on: date | None = None
    trays: MaybeCount = Field(default=None, ge=1, le=1_000_000)
    start: MaybeCount = Field(default=None, ge=1, le=10_000_000)
    lots: list[SownFromIn] = Field(default=[], max_length=20)
    version: int | None = None
    reason: str = Field(max_length=300)


class MovedIn(Schema):
    stage: str = Field(max_length=40)
    on: date
    place_id: int | None = None
    version: int | None = None


class TrayIn(Schema):
    sampled: Count = Field(ge=1, le=1_000_000)
    found: Count = Field(ge=0, le=1_000_000)


class CountIn(Schema):
    trays: list[TrayIn] = Field(min_length=1, max_length=500)
    on: date
    client_uuid: uuid.UUID
    stage: str | None = Field(default=None, max_length=40)
    replaces: int | None = None
    reason: str = Field(default="", max_length=300)


class LossIn(Schema):
    lost: Count = Field(ge=1, le=10_000_000)
    cause: str = Field(max_length=80)
    on: date
    client_uuid: uuid.UUID


class GradedOutIn(Schema):
    cause: str = Field(max_length=80)
    count: int | str


class SecondIn(Schema):
    """So many of another grade, by the stage that gives it."""

    stage: str = Field(max_length=40)
    count: int | str


class PickedIn(Schema):
    stage: str = Field(max_length=40)
    quantity: str = Field(max_length=60)
    on: date
    client_uuid: uuid.UUID


class GradedIn(Schema):
    """Counts as typed or as numbers; `rest`: the others stand on and are graded later."""

    good: int | str
    rest: bool = False
    out: list[GradedOutIn] = Field(default=[], max_length=100)
    seconds: list[SecondIn] = Field(default=[], max_length=20)
    on: date
    client_uuid: uuid.UUID
    version: int | None = None


class ResowIn(Schema):
    version: int
