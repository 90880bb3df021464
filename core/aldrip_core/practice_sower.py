"""A sower and its scale for practice: a dial, a bent curve behind it, and somebody who walks nearly evenly."""

import math
from dataclasses import dataclass, field
from random import Random

from aldrip_core.refusal import refuse
from aldrip_core.sower_calibration import MoreIs

PACE_SD = 0.012  # of a catch, that an even walk leaves
HURRIED_SD = 0.12  # and one that is interrupted
USUAL_G = 180.0  # that a tray of coarse, soaked seed takes; `most_g` is told for such
READS = 1000  # parts of what is wanted, to which the scale reads


@dataclass
class PracticeSower:
    """A sower that is only reckoned: which way its dial goes and how it bends follow from `seed`; no two are alike.

    Settings go from 0 to 10. What a tray catches is `most_g` × opening^bend, with the walker's pace in it.
    """

    seed: int
    up: bool = field(init=False)
    bend: float = field(init=False)
    most_g: float = field(init=False)
    shown_g: float = field(init=False, default=0.0)
    setting_min: float = 0.0
    setting_max: float = 10.0

    def __post_init__(self) -> None:
        self._draw = Random(self.seed)
        self.up = self._draw.random() < 0.5
        self.bend, self.most_g = self._draw.uniform(0.7, 1.6), self._draw.uniform(220, 500)

    @property
    def more_is(self) -> MoreIs:
        """Which way the dial goes."""
        return MoreIs.INCREASING if self.up else MoreIs.DECREASING

    def opening(self, setting: float) -> float:
        """How far it is open [0-1]."""
        share = (setting - self.setting_min) / (self.setting_max - self.setting_min)
        return share if self.up else 1 - share

    def sow(self, setting: float, *, evenly: bool = True, of_g: float = USUAL_G) -> float:
        """One tray: what it caught [g], which the scale shows afterwards. Raises Refused beyond the dial's ends.

        `of_g`: what a tray of the seed in it takes; brushes for that seed are fitted, so the curve keeps its shape.
        """
        if not self.setting_min <= setting <= self.setting_max:
            told = f"The dial goes from {self.setting_min:g} to {self.setting_max:g}; {setting:g} would be forced."
            raise refuse("setting", "beyond_range", told)
        pace = 1 + self._draw.gauss(0, PACE_SD if evenly else HURRIED_SD)
        caught = self.most_g * of_g / USUAL_G * self.opening(setting) ** self.bend * pace
        self.shown_g = max(0.0, round(caught, -math.floor(math.log10(of_g / READS))))
        return self.shown_g
