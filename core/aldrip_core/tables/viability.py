"""Constants of the seed viability equation by crop.

Source: Ellis & Roberts 1980 and later; from memory. A set that is doubtful is not shipped.
"""

from typing import NamedTuple

SOURCE = "Ellis & Roberts 1980 and later, from memory"


class ViabilityConstants(NamedTuple):
    """K_E, C_W, C_H [1/°C], C_Q [1/°C²] of one crop; logarithms to base ten, days."""

    ke: float
    cw: float
    ch: float
    cq: float


CONSTANTS = {
    "barley": ViabilityConstants(9.983, 5.896, 0.040, 0.000428),
    "onion": ViabilityConstants(6.975, 3.470, 0.040, 0.000428),
    "lettuce": ViabilityConstants(8.218, 4.797, 0.0489, 0.000365),
    "soya": ViabilityConstants(7.748, 3.979, 0.053, 0.000228),
    "sunflower": ViabilityConstants(6.740, 4.160, 0.0329, 0.000478),
    "cowpea": ViabilityConstants(8.690, 4.715, 0.026, 0.000498),
    "rice": ViabilityConstants(8.668, 5.030, 0.040, 0.000428),
    "sorghum": ViabilityConstants(10.588, 6.305, 0.0412, 0.000349),
}
