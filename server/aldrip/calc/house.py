"""Calculators of the bench and the house: beds, sowers, feed, setts."""

from typing import Annotated, Literal

from pydantic import Field

from aldrip.calc.fields import Bounded, Count, NotNegative, Positive, Share, Strict, Whole, WholePositive
from aldrip_core import bed_layout, mother_plants, nutrients, setts, sower_calibration


class BedLayoutIn(Strict):
    """Beds that fit into a house."""

    house_length_m: Positive
    house_width_m: Positive
    end_clearance_m: NotNegative
    bed_width_m: Positive
    path_width_m: NotNegative
    outer_paths: bool = True
    wanted_beds: WholePositive | None = None
    wanted_length_m: Positive | None = None

    def answer(self) -> bed_layout.BedLayout:
        return bed_layout.bed_layout(**self.model_dump())


class SowerTrialIn(Strict):
    setting: float
    grams: NotNegative


class SowerCalibrationIn(Strict):
    """What to set a sower to, from what its trays caught."""

    trials: Annotated[list[SowerTrialIn], Bounded]
    target_g: Positive
    tolerance_g: Positive
    setting_min: float
    setting_max: float
    more_is: Literal["increasing", "decreasing"]

    def answer(self) -> sower_calibration.SowerCalibration:
        given = self.model_dump(exclude={"trials", "more_is"})
        return sower_calibration.sower_calibration(
            trials=[sower_calibration.SowerTrial(t.setting, t.grams) for t in self.trials],
            more_is=sower_calibration.MoreIs(self.more_is),
            **given,
        )


class SaltIn(Strict):
    grams: Positive
    formula: str | None = Field(default=None, min_length=1, max_length=80)
    analysis: Annotated[dict[str, NotNegative], Bounded] | None = None


class NutrientSolutionIn(Strict):
    """What a feed holds of every element."""

    volume_l: Positive
    salts: Annotated[list[SaltIn], Bounded]
    concentrate: bool = False

    def answer(self) -> nutrients.NutrientSolution:
        salts = [nutrients.Salt(**salt.model_dump()) for salt in self.salts]
        return nutrients.nutrient_solution(volume_l=self.volume_l, salts=salts, concentrate=self.concentrate)


class FeedRateIn(Strict):
    """Grams of a product for a strength of feed."""

    target_mg_per_l: Positive
    element: str = Field(min_length=1, max_length=4)
    label_percent: Positive
    label_as: Literal["element", "oxide"]
    volume_l: Positive
    injector_ratio: Positive | None = None

    def answer(self) -> nutrients.FeedRate:
        given = self.model_dump(exclude={"label_as"})
        return nutrients.feed_rate(label_as=nutrients.LabelAs(self.label_as), **given)


class SettsIn(Strict):
    """Setts, tubers and bed for so many plants."""

    plants: Count
    sett_g: Positive
    tuber_g: Positive
    sprout_rate: Share
    footprint_cm2: Positive
    bed_width_cm: Positive

    def answer(self) -> setts.Setts:
        return setts.setts(**self.model_dump())


class MotherPlantsIn(Strict):
    """How many plantlets to start when, for the cuttings of every week."""

    weekly_demand: Annotated[list[NotNegative], Field(min_length=1, max_length=520)]
    shoots_by_age_weeks: Annotated[list[NotNegative], Field(min_length=1, max_length=520)]
    first_cut_week: Whole
    mother_life_weeks: WholePositive
    submother_cuts: Whole
    rooting_rate: Share
    hardening_rate: Share
    rooting_weeks: Whole
    hardening_weeks: Whole
    hold_weeks: Whole = 0
    reserve: NotNegative = 0
    horizon_weeks: WholePositive

    def answer(self) -> mother_plants.MotherPlants:
        return mother_plants.mother_plants(**self.model_dump())


HOUSE: dict[str, type[Strict]] = {
    "bed-layout": BedLayoutIn,
    "sower-calibration": SowerCalibrationIn,
    "nutrient-solution": NutrientSolutionIn,
    "feed-rate": FeedRateIn,
    "setts": SettsIn,
    "mother-plants": MotherPlantsIn,
}
