"""Every calculator: its input, and the core function that answers it."""

from datetime import date
from typing import Annotated, Any, Literal

from pydantic import BaseModel, Field

from aldrip.calc.fields import (
    Bounded,
    Celsius,
    Count,
    NotNegative,
    Positive,
    Share,
    Strict,
    Whole,
    WholePositive,
)
from aldrip.calc.house import HOUSE
from aldrip.calc.seed_crops import SEED_CROPS
from aldrip_core import (
    bench_space,
    ladder,
    media,
    oversow,
    plants_per_area,
    seed_rate,
    succession,
    thermal_time,
)
from aldrip_core.working import Working


class LadderStageIn(Strict):
    name: str = Field(min_length=1, max_length=200)
    survival: Share
    multiply: Positive = 1
    round_to: Positive = 1
    kind: str | None = Field(default=None, max_length=50)


class LadderIn(Strict):
    """Quantities back from what is delivered to what is started."""

    deliver: Count
    stages: Annotated[list[LadderStageIn], Bounded]
    germination: Share | None = None
    cell_factor: Share = 1
    seeds_per_cell: WholePositive = 1
    cells_per_tray: WholePositive | None = None
    fill_last_tray: bool = True
    tgw_g: Positive | None = None

    def answer(self) -> ladder.Ladder:
        given = self.model_dump(exclude={"stages"})
        return ladder.ladder(stages=[ladder.LadderStage(**s.model_dump()) for s in self.stages], **given)


class TrialIn(Strict):
    good: Whole
    trials: Whole


class OversowIn(Strict):
    """Smallest start that meets a need with a chosen chance."""

    needed: Whole
    chance: float = Field(gt=0, lt=1)
    rate: Share | None = None
    rate_sd: Share | None = None
    good: Whole | None = None
    trials: Whole | None = None
    batches: Annotated[list[TrialIn], Bounded] | None = None
    cost_surplus: NotNegative | None = None
    cost_short: NotNegative | None = None

    def answer(self) -> oversow.Oversow:
        given = self.model_dump(exclude={"batches"})
        batches = None if self.batches is None else [oversow.Trial(b.good, b.trials) for b in self.batches]
        return oversow.oversow(batches=batches, **given)


class ThermalTimeIn(Strict):
    """Days until a heat sum is reached."""

    heat_sum_c_d: Positive
    base_c: Celsius
    ceiling_c: Celsius | None = None
    above_ceiling: Literal["stop", "cap"] = "stop"
    temperature_c: Celsius | None = None
    daily_mean_c: Annotated[list[Celsius], Bounded] | None = None
    daily_max_c: Annotated[list[Celsius], Bounded] | None = None

    def answer(self) -> thermal_time.ThermalTime:
        given = self.model_dump(exclude={"above_ceiling"})
        return thermal_time.thermal_time(above_ceiling=thermal_time.AboveCeiling(self.above_ceiling), **given)


class SuccessionIn(Strict):
    """When to sow for a harvest at even intervals, by heat."""

    first_harvest: date
    last_harvest: date
    harvest_every_days: WholePositive
    heat_sum_c_d: Positive
    base_c: Celsius
    daily_mean_c_by_day_of_year: Annotated[list[Celsius], Bounded]

    def answer(self) -> succession.Succession:
        return succession.succession(**self.model_dump())


class SeedRateIn(Strict):
    """Seed to sow for a stand of plants."""

    target_plants_per_m2: Positive
    germination: Share
    field_factor: Share = 1
    purity: Share = 1
    tgw_g: Positive
    area_ha: Positive
    row_width_cm: Positive | None = None

    def answer(self) -> seed_rate.SeedRate:
        return seed_rate.seed_rate(**self.model_dump())


class PlantsPerAreaIn(Strict):
    """Plants per area by spacing, on the bed and with paths."""

    pattern: Literal["square", "staggered", "rows_on_bed"]
    row_spacing_cm: Positive | None = None
    in_row_cm: Positive
    rows: WholePositive | None = None
    bed_width_cm: Positive | None = None
    path_cm: NotNegative | None = None

    def answer(self) -> plants_per_area.Density:
        given = self.model_dump(exclude={"pattern"})
        return plants_per_area.plants_per_area(pattern=plants_per_area.Pattern(self.pattern), **given)


class MediaIn(Strict):
    """Litres of a mix and of each part."""

    parts: Annotated[dict[str, NotNegative], Bounded]
    litres: NotNegative | None = None
    trays: Count | None = None
    cells_per_tray: Count | None = None
    cell_ml: NotNegative | None = None
    settling: Share = 0
    spillage: Share = 0

    def answer(self) -> media.Media:
        return media.media(**self.model_dump())


class StandingIn(Strict):
    trays: Count
    tray_m2: NotNegative
    start: date = Field(alias="from")
    end: date = Field(alias="to")


class DayOut(BaseModel):
    date: date
    m2: float


class OverOut(BaseModel):
    start: date = Field(serialization_alias="from")
    end: date = Field(serialization_alias="to")
    m2: float


class BenchSpaceOut(BaseModel):
    daily: list[DayOut]
    peak_m2: float
    usable_m2: float
    over: list[OverOut]
    working: Any = ()
    warnings: Any = ()


class BenchSpaceIn(Strict):
    """Bench space by day, its peak and its overflow."""

    batches: Annotated[list[StandingIn], Bounded]
    capacity_m2: NotNegative
    gangway: float = Field(default=0, ge=0, lt=1)

    def answer(self) -> BenchSpaceOut:
        standing = [bench_space.Standing(b.trays * b.tray_m2, b.start, b.end) for b in self.batches]
        result = bench_space.load(standing=standing, capacity=self.capacity_m2, gangway=self.gangway)
        first = result.first.toordinal()
        working: Working = bench_space.load_working(result, capacity=self.capacity_m2, gangway=self.gangway)
        return BenchSpaceOut(
            daily=[DayOut(date=date.fromordinal(first + n), m2=m2) for n, m2 in enumerate(result.by_day.tolist())],
            peak_m2=result.peak,
            usable_m2=result.usable,
            over=[OverOut(start=o.start, end=o.end, m2=o.amount) for o in result.over],
            working=working,
        )


CALCULATORS: dict[str, type[Strict]] = {
    "ladder": LadderIn,
    "oversow": OversowIn,
    "seed-rate": SeedRateIn,
    "thermal-time": ThermalTimeIn,
    "succession": SuccessionIn,
    "plants-per-area": PlantsPerAreaIn,
    "media": MediaIn,
    "bench-space": BenchSpaceIn,
    **HOUSE,
    **SEED_CROPS,
}
