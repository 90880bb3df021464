"""Calculators of seed crops, laboratory and store."""

from datetime import date
from typing import Annotated, Literal

from pydantic import Field

from aldrip.calc.fields import Bounded, Celsius, NotNegative, Positive, Share, Strict, Whole, WholePositive
from aldrip_core import (
    drying,
    generations,
    isolation,
    nick,
    off_type_interval,
    reject_number,
    replicate_tolerance,
    row_plan,
    seed_viability,
    sequential_inspection,
)
from aldrip_core.tables.viability import ViabilityConstants

Name = Annotated[str, Field(min_length=1, max_length=200)]
Coordinate = Annotated[float, Field(ge=-1e9, le=1e9)]
Corner = Annotated[list[Coordinate], Field(min_length=2, max_length=2)]
Outline = Annotated[list[Corner], Bounded]
Days = Annotated[float, Field(ge=0, le=2000)]
Chance = Annotated[float, Field(gt=0, lt=1)]
Percent = Annotated[float, Field(ge=0, le=100)]


class ParentInputIn(Strict):
    line: Name
    seed_rate_kg_per_ha: Positive


class GenerationStepIn(Strict):
    seed_class: Name = Field(alias="class")
    yield_kg_per_ha: Positive
    recovery: Share
    seed_rate_kg_per_ha: Positive | None = None
    inputs: Annotated[list[ParentInputIn], Bounded] | None = None
    of_line: Name | None = None

    def step(self) -> generations.GenerationStep:
        inputs = tuple(generations.ParentInput(i.line, i.seed_rate_kg_per_ha) for i in self.inputs or [])
        return generations.GenerationStep(
            self.seed_class, self.yield_kg_per_ha, self.recovery, self.seed_rate_kg_per_ha, inputs, self.of_line
        )


class GenerationsIn(Strict):
    """Kilos of a class back to land and parent seed of the classes above."""

    need_kg: NotNegative
    reserve: Annotated[float, Field(ge=0, le=10)] = 0
    steps: Annotated[list[GenerationStepIn], Field(min_length=1, max_length=5000)]

    def answer(self) -> generations.Generations:
        return generations.generations(
            need_kg=self.need_kg, reserve=self.reserve, steps=[one.step() for one in self.steps]
        )


class ByLine(Strict):
    f: Positive | None = Field(default=None, alias="F")
    m: Positive | None = Field(default=None, alias="M")

    def values(self) -> dict[str, float]:
        return {name: value for name, value in (("F", self.f), ("M", self.m)) if value is not None}


class SharesByLine(Strict):
    f: Share | None = Field(default=None, alias="F")
    m: Share | None = Field(default=None, alias="M")

    def values(self) -> dict[str, float]:
        return {name: value for name, value in (("F", self.f), ("M", self.m)) if value is not None}


class RowPlanIn(Strict):
    """Parent rows of a field: metres, plants and kilos by line."""

    outline: Outline
    row_bearing_deg: Annotated[float, Field(ge=-360, le=360)]
    row_spacing_m: Annotated[float, Field(gt=0, le=1000)]
    pattern: Annotated[str, Field(min_length=1, max_length=200)]
    border_rows: Whole
    headland_rows: Whole | None = None
    border_line: Literal["F", "M"] = "M"
    in_row_cm: ByLine
    establishment: SharesByLine | None = None
    tgw_g: ByLine | None = None
    planter_rows: WholePositive | None = None

    def answer(self) -> row_plan.RowPlan:
        given = self.model_dump(
            include={
                "outline",
                "row_bearing_deg",
                "row_spacing_m",
                "pattern",
                "border_rows",
                "headland_rows",
                "border_line",
                "planter_rows",
            }
        )
        return row_plan.row_plan(
            in_row_cm=self.in_row_cm.values(),
            establishment=self.establishment.values() if self.establishment else None,
            tgw_g=self.tgw_g.values() if self.tgw_g else None,
            **given,
        )


class FemaleIn(Strict):
    sow: date
    days_to_receptive: Days
    spread_sd_days: Days
    date_sd_days: Days = 0
    receptive_days: Annotated[float, Field(gt=0, le=365)]

    def parent(self) -> nick.Parent:
        return nick.Parent(
            self.sow, self.days_to_receptive, self.spread_sd_days, self.receptive_days, self.date_sd_days
        )


class MaleIn(Strict):
    sow: date
    days_to_shed: Days
    spread_sd_days: Days
    date_sd_days: Days = 0
    shed_days: Annotated[float, Field(gt=0, le=365)]
    sowings: Annotated[WholePositive, Field(le=20)] = 1
    sowing_gap_days: Annotated[float, Field(ge=0, le=60)] = 0

    def parent(self) -> nick.Parent:
        return nick.Parent(
            self.sow,
            self.days_to_shed,
            self.spread_sd_days,
            self.shed_days,
            self.date_sd_days,
            self.sowings,
            self.sowing_gap_days,
        )


class NickIn(Strict):
    """Whether female and male flower together, and what cures it if not."""

    female: FemaleIn
    male: MaleIn
    enough_pollen: Annotated[float, Field(gt=0, le=1)] = 0.2

    def answer(self) -> nick.Nick:
        return nick.nick(female=self.female.parent(), male=self.male.parent(), enough_pollen=self.enough_pollen)


class FloweringIn(Strict):
    start: date = Field(alias="from")
    end: date = Field(alias="to")


class NeighbourIn(Strict):
    id: Name
    polygon: Outline
    kind: Name
    flowering: FloweringIn | None = None


class RuleIn(Strict):
    kind: Name
    metres: Annotated[float, Field(ge=0, le=100_000)]
    time_allowed: bool = False


class IsolationIn(Strict):
    """Neighbours nearer than the rules ask, and what may still be planted."""

    field: Outline
    neighbours: Annotated[list[NeighbourIn], Bounded]
    rules: Annotated[list[RuleIn], Bounded]
    flowering: FloweringIn | None = None
    time_margin_days: Annotated[Whole, Field(le=365)] = 0

    def answer(self) -> isolation.Isolation:
        def days(one: FloweringIn | None) -> isolation.Flowering | None:
            return isolation.Flowering(one.start, one.end) if one else None

        return isolation.isolation(
            field=self.field,
            neighbours=[isolation.Neighbour(n.id, n.polygon, n.kind, days(n.flowering)) for n in self.neighbours],
            rules=[isolation.Rule(r.kind, r.metres, r.time_allowed) for r in self.rules],
            flowering=days(self.flowering),
            time_margin_days=self.time_margin_days,
        )


class RejectNumberIn(Strict):
    """At how many faults a sample of plants is rejected."""

    plants: WholePositive
    limit: Share
    alpha: Chance = 0.05
    decision: Literal["reject_number", "plain_max"]
    found: Whole | None = None

    def answer(self) -> reject_number.RejectNumber:
        given = self.model_dump(exclude={"decision"})
        return reject_number.reject_number(decision=reject_number.Decision(self.decision), **given)


class OffTypeIntervalIn(Strict):
    """Between which rates the true share of off-types lies."""

    plants: WholePositive
    found: Whole
    confidence: Chance = 0.95
    sides: Literal[1, 2] = 2

    def answer(self) -> off_type_interval.OffTypeInterval:
        return off_type_interval.off_type_interval(**self.model_dump())


class SequentialInspectionIn(Strict):
    """Whether enough plants were counted to accept or reject a field."""

    limit: Share
    reject_level: Share
    alpha: Share
    beta: Share
    counted: Whole
    found: Whole

    def answer(self) -> sequential_inspection.SequentialInspection:
        return sequential_inspection.sequential_inspection(**self.model_dump())


class ReplicateToleranceIn(Strict):
    """Whether replicates of a germination test agree."""

    normal: Annotated[list[Whole], Bounded]
    seeds_per_replicate: Literal[100, 50] = 100

    def answer(self) -> replicate_tolerance.ReplicateTolerance:
        return replicate_tolerance.replicate_tolerance(**self.model_dump())


class ViabilityConstantsIn(Strict):
    ke: Annotated[float, Field(ge=-100, le=100)]
    cw: Annotated[float, Field(ge=-100, le=100)]
    ch: Annotated[float, Field(ge=-10, le=10)]
    cq: Annotated[float, Field(ge=-1, le=1)]


class SeedViabilityIn(Strict):
    """How seed ages in store."""

    crop: Name | None = None
    constants: ViabilityConstantsIn | None = None
    initial_germination: Share
    moisture_percent: Annotated[float, Field(gt=0, lt=100)]
    temperature_c: Celsius
    days: Annotated[float, Field(ge=0, le=1e7)] | None = None
    floor: Chance | None = None
    seed_form: Literal["natural", "primed", "pelleted"] = "natural"

    def answer(self) -> seed_viability.SeedViability:
        given = self.model_dump(exclude={"constants"})
        constants = None if self.constants is None else ViabilityConstants(**self.constants.model_dump())
        return seed_viability.seed_viability(constants=constants, **given)


class DryingIn(Strict):
    """Water to take out between two moistures."""

    mass_kg: NotNegative
    from_percent: Percent
    to_percent: Percent

    def answer(self) -> drying.Drying:
        return drying.drying(**self.model_dump())


SEED_CROPS: dict[str, type[Strict]] = {
    "generations": GenerationsIn,
    "row-plan": RowPlanIn,
    "nick": NickIn,
    "isolation": IsolationIn,
    "reject-number": RejectNumberIn,
    "off-type-interval": OffTypeIntervalIn,
    "sequential-inspection": SequentialInspectionIn,
    "replicate-tolerance": ReplicateToleranceIn,
    "seed-viability": SeedViabilityIn,
    "drying": DryingIn,
}
