"""Shapes of the seed crops room."""

import uuid
from datetime import date, datetime
from typing import Any

from ninja import Field, Schema
from pydantic import AwareDatetime

from aldrip.base.schemas import BatchState, StepOut, VisitState
from aldrip.base.typed import Count, MaybeCount, MaybeNumber, MaybePercent, Number, Percent


class VisitOut(Schema):
    id: int
    number: int
    words: str
    state: VisitState
    decision: str
    planned_on: date


class SeedCropOut(Schema):
    batch_id: int
    code: str
    crop: str
    cultivar: str
    way: str
    state: BatchState
    stage: str
    block_id: int | None
    field: str
    seed_class: str
    class_name: str
    area_m2: float
    needed: float
    expected: float
    low: float | None
    high: float | None
    sow_on: date
    ready_on: date
    orders: list[str]
    chance: float | None
    delivered: int
    visits: list[VisitOut]
    next_visit: date | None


class RowOut(Schema):
    index: int
    line: str
    part: str
    length_m: float
    segments: list[list[list[float]]]


class DrawingOut(Schema):
    """Metres from the lower left corner of the outline. `gone`: polygons with their holes that count no more."""

    outline: list[list[float]]
    gone: list[list[list[list[float]]]]
    metres_left: dict[str, float] | None
    rows: list[RowOut]
    female_share: float | None
    female_share_in_pattern: float | None
    border_metres: float | None
    passes: int | None
    metres: dict[str, float]
    plants: dict[str, float]
    seed_kg: dict[str, float]


class BlockLotOut(Schema):
    id: int
    code: str
    kg: float
    seed_class: str
    label_number: str


class SownOut(Schema):
    on: date
    kg: float
    lot: str
    lot_id: int


class ParentOut(Schema):
    role: str
    role_words: str
    line: str
    line_id: int
    sow_on: date
    sowings: int
    sowing_gap_days: int
    tgw_g: float
    tgw_from: str
    seed_kg: float | None
    metres: float | None
    plants: float | None
    sown: list[SownOut]
    lots: list[BlockLotOut]


class LayoutOut(Schema):
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
    male_sowings: int
    male_gap_days: int


class StageSeenOut(Schema):
    id: int
    stage: str
    words: str
    seen_on: date


class ParentFloweringOut(Schema):
    role: str
    line: str
    sow_on: date
    sown_on: date | None
    first: date
    planned_first: date
    date_sd_days: float
    lasts_days: float
    sowings: int
    curve: list[float]
    planned_curve: list[float]
    seen: list[StageSeenOut]
    working: list[StepOut]


class NickRemedyOut(Schema):
    id: int
    name: str
    role: str
    remedy_class: str
    shift_low: float
    shift_high: float
    until: date
    until_words: str
    useful: bool
    chosen: bool
    gap_then: float | None
    seen_since: bool
    caution: str
    source: str


class AfterOut(Schema):
    gap_low: float
    gap_high: float
    overlap: float


class BeesOut(Schema):
    kind: str
    per_ha: float
    needed: int
    arrive: date
    flower_percent: float
    ordered: int | None
    ordered_for: date | None


class MatchOut(Schema):
    start: date = Field(alias="from")
    end: date = Field(alias="to")
    parents: list[ParentFloweringOut]
    gap_days: float | None
    gap_sd_days: float | None
    overlap: float | None
    planned_overlap: float | None
    remedy_class: str | None
    best_male_sow: date | None
    best_overlap: float | None
    after: AfterOut | None
    working: list[StepOut]
    shedding_from: date
    bees: BeesOut | None
    remedies: list[NickRemedyOut]


class FloweringOut(Schema):
    problem: str
    match: MatchOut | None


class SeedRungOut(Schema):
    key: str
    name: str
    value: float
    unit: str
    words: str


class ClassAboveOut(Schema):
    seed_class: str
    line: str
    role: str
    kg: float
    area_ha: float
    seed_in_kg: float
    from_class: str


class GenerationsOut(Schema):
    rungs: list[SeedRungOut]
    classes: list[ClassAboveOut]
    problem: str
    working: list[StepOut]


class DrillOut(Schema):
    seeds_per_m2: float | None
    rate_kg_per_ha: float | None
    seed_kg: float | None
    seeds_per_metre_of_row: float | None


class MaleOutOut(Schema):
    on: date
    how: str


class LoadOut(Schema):
    id: int
    on: date
    net_kg: float
    moisture_percent: float
    decision: str
    lot: str
    lot_id: int | None


class SeedStageOut(Schema):
    slug: str
    words: str
    share: float


class GivesOut(Schema):
    """What the block gives of its method's kilos, shares 0 to 1."""

    share: float
    females: float
    stand: float
    pollen: float
    working: list[StepOut]


class BlockOut(SeedCropOut):
    acts_of: list[uuid.UUID]
    version: int
    batch_version: int
    can_undo: bool
    step: str
    outline: dict[str, Any]
    area_m2: float
    layout: LayoutOut
    rows: DrawingOut
    parents: list[ParentOut]
    drill: DrillOut | None
    warnings: list[str]
    history: list[str]
    flowering: FloweringOut
    generations: GenerationsOut
    male_out: MaleOutOut | None
    all_in: date | None
    gives: GivesOut | None
    has_male: bool
    intake_limit: float | None
    loads: list[LoadOut]
    stages_seen: list[SeedStageOut]
    working: list[StepOut]


class SchemeIn(Schema):
    slug: str


class LayOutIn(Schema):
    batch_id: int
    field_id: int | None = None
    outline: dict[str, Any] | None = None
    corners_m: list[tuple[float, float]] | None = None
    bearing_deg: MaybeNumber = None


class LayoutIn(Schema):
    pattern: str | None = Field(default=None, max_length=40)
    bearing_deg: float | None = None
    row_spacing_m: float | None = None
    border_rows: int | None = None
    headland_rows: int | None = None
    planter_rows: int | None = None
    in_row_cm: dict[str, float] = {}
    establishment: dict[str, float] = {}
    target_per_m2: float | None = None
    sow_on: dict[str, date] = {}
    male_sowings: int | None = None
    male_gap_days: int | None = None


class KeepLayoutIn(LayoutIn):
    version: int


class SeedFigureOut(Schema):
    name: str
    before: float | str | date | None = None
    after: float | str | date | None = None
    unit: str
    kind: str
    worse: bool
    note: str


class LayoutPreviewOut(Schema):
    sentence: str
    version: int
    figures: list[SeedFigureOut]
    rows: DrawingOut | None
    flowering: FloweringOut | None


class SowIn(Schema):
    role: str
    lot_id: int
    kg: str
    on: date
    rows: MaybeCount = Field(default=None, ge=0, le=100_000)
    client_uuid: uuid.UUID


class SeenIn(Schema):
    role: str
    stage: str
    on: date
    client_uuid: uuid.UUID
    replaces: int | None = None
    reason: str = Field(default="", max_length=300)


class RemedyIn(Schema):
    remedy_id: int
    chosen: bool
    client_uuid: uuid.UUID


class HivesIn(Schema):
    hives: Count
    on: date


class NeighbourOut(Schema):
    key: str
    id: int | None
    year: int | None
    seen_on: date | None
    seen_by: str
    name: str
    kind: str
    outline: dict[str, Any]
    told: str
    flowers_from: date | None
    flowers_to: date | None
    distance_m: float | None
    required_m: float | None
    source: str
    state: str
    short_m: float | None
    days_apart: int | None
    line: list[list[float]] | None


class IsolationRemedyOut(Schema):
    kind: str
    title: str
    possible: bool
    sentence: str
    kg_before: float
    kg_after: float
    asks: str
    seed_class: str | None
    sow_on: dict[str, date] | None


class DistanceBandOut(Schema):
    metres: float
    line: list[list[float]]


class IsolationOut(Schema):
    outline: dict[str, Any]
    plantable: dict[str, Any]
    plantable_m: list[list[list[list[float]]]]  # the same in metres, as `DrawingOut` has them
    strip_left: dict[str, Any] | None
    area_m2: float
    plantable_m2: float
    flowers_from: date | None
    flowers_to: date | None
    neighbours: list[NeighbourOut]
    remedies: list[IsolationRemedyOut]
    bands: list[DistanceBandOut]
    class_name: str
    said: str
    step: str
    version: int
    working: list[StepOut]


class NeighbourIn(Schema):
    name: str
    crop_id: int
    kind: str
    year: Count
    seen_on: date
    seen_by: str = ""
    outline: dict[str, Any] | None = None
    corners_m: list[tuple[float, float]] | None = None
    flowers_from: date | None = None
    flowers_to: date | None = None


class ForgetIn(Schema):
    reason: str = Field(max_length=300)


class VersionIn(Schema):
    version: int


class DropClassIn(Schema):
    version: int
    seed_class: str


class FaultLimitOut(Schema):
    attribute: str
    words: str
    limit: float
    decision: str
    is_plant: bool
    source: str


class FaultVerdictOut(Schema):
    attribute: str
    words: str
    limit: float
    found: int
    reject_at: int
    state: str
    low: float
    high: float
    likely_low: int
    likely_high: int


class JudgementOut(Schema):
    state: str
    more_plants: int
    plants: int
    faults: list[FaultVerdictOut]


class TableRowOut(Schema):
    plants: int
    by_found: list[list[float]]


class DecisionTableOut(Schema):
    """By plants counted and number found: lowest and highest true share, likely least and most at the end."""

    sample: int
    reject_at: dict[str, int]
    beyond: dict[str, list[list[int]]]
    rows: list[TableRowOut]


class EarlierOut(Schema):
    number: int
    sentence: str
    decision: str
    signed_at: datetime | None


class EntryOut(Schema):
    """One tap that stands."""

    uuid: uuid.UUID
    area: int
    plants: int
    faults: dict[str, int]
    words: str
    by: str
    at: datetime


class VisitNoteOut(Schema):
    """A note or a photo to an area."""

    uuid: uuid.UUID
    area: int
    note: str
    photo: bool
    by: str
    at: datetime


class InspectionOut(Schema):
    id: int
    block_id: int
    batch: str
    crop: str
    field: str
    cultivar: str
    number: int
    words: str
    state: VisitState
    planned_on: date
    areas: int
    plants_per_area: int
    sample: int
    standard: str
    limits: list[FaultLimitOut]
    outline: list[list[float]]
    gone: list[list[list[list[float]]]]
    points: list[list[float]]
    plants: int
    faults: dict[str, int]
    by_area: dict[str, int]
    last: list[EntryOut]
    notes: list[VisitNoteOut]
    judgement: JudgementOut | None
    twice: list[str]
    table: DecisionTableOut | None
    choices: list[str]
    hours_to_rogue: float | None
    shedding_from: date | None
    decision: str
    sentence: str
    signed_role: str
    signed_by: str
    signed_at: datetime | None
    counted: dict[str, Any]
    follows: EarlierOut | None


class EntryIn(Schema):
    client_uuid: uuid.UUID
    area: int
    plants: int = 0
    faults: dict[str, int] = {}
    note: str = Field(default="", max_length=300)
    photo: str = ""  # an image in base64
    takes_back: uuid.UUID | None = None
    counted_at: AwareDatetime | None = None  # by the clock of the phone


class EntriesIn(Schema):
    entries: list[EntryIn] = Field(max_length=2000)


class KeptOut(Schema):
    client_uuid: uuid.UUID
    kept: bool
    code: str
    message: str


class CountedOut(Schema):
    entries: list[KeptOut]
    inspection: InspectionOut


class SignIn(Schema):
    decision: str
    reason: str = Field(default="", max_length=300)


class MaleOutIn(Schema):
    on: date
    how: str
    client_uuid: uuid.UUID


class DispenseIn(Schema):
    given_by: str = Field(max_length=120)
    reason: str = Field(max_length=200)


class RejectPartIn(Schema):
    side: str
    metres: Number
    reason: str = Field(max_length=200)


class AllInIn(Schema):
    on: date


class HarvestIn(Schema):
    """Weights as typed, so that “4.2 t” or “9300 lb” is understood."""

    on: date
    gross: str
    tare: str = "0"
    moisture_percent: Percent
    purity_percent: MaybePercent = None
    pests: str = Field(default="", max_length=120)
    refused: bool = False
    equipment_clean: bool = False
    client_uuid: uuid.UUID


class DryIn(Schema):
    on: date
    to_percent: Percent
    mass_after: str = ""
    reason: str = Field(default="", max_length=300)
    client_uuid: uuid.UUID


class PartIn(Schema):
    lot_id: int
    kg: str


class CleanIn(Schema):
    on: date
    lots: list[PartIn] = Field(max_length=100)
    clean: str
    screenings: str = "0"
    reason: str = Field(default="", max_length=300)
    client_uuid: uuid.UUID


class VerdictIn(Schema):
    decision: str
    reason: str = Field(default="", max_length=300)
    seed_class: str = ""
    client_uuid: uuid.UUID


class MadeOut(Schema):
    id: int
    code: str
    message: str
