"""Daylight at a latitude: length of the day, and the light that reaches plants [mol/m² a day]."""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

SOLAR_CONSTANT = 0.0820  # MJ/m² a minute (Allen et al. 1998, FAO Irrigation and Drainage Paper 56)
CLEAR, THROUGH = (
    0.50,
    0.15,
)  # of the light above the clouds half comes through, less the lower the sun; common practice, no source
MOL_PER_MJ = 2.06  # of sunlight, 400 to 700 nm: 0.45 of its energy, 4.57 µmol/J (Thimijan & Heins 1983, from memory)


@lru_cache(maxsize=64)
def _angles(latitude: float) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Declination, sunset hour angle [rad] and relative distance of the sun by day of a 366-day year."""
    turn = 2 * np.pi * np.arange(1, 367) / 365
    declination = 0.409 * np.sin(turn - 1.39)
    sunset = np.arccos(np.clip(-np.tan(np.radians(latitude)) * np.tan(declination), -1, 1))
    return declination, sunset, 1 + 0.033 * np.cos(turn)


def day_hours(latitude: float) -> NDArray[np.float64]:
    """Hours from sunrise to sunset by day of a 366-day year (366,). Allen et al. 1998, equation 34."""
    return np.asarray(24 / np.pi * _angles(latitude)[1])


def above_clouds(latitude: float) -> NDArray[np.float64]:
    """Sunlight above the clouds by day of a 366-day year (366,) [MJ/m² a day]. Allen et al. 1998, equation 21.

    >>> round(float(above_clouds(-20)[245]), 1)  # 3 September at 20° S, their example 8
    32.2
    """
    declination, sunset, near = _angles(latitude)
    lat = np.radians(latitude)
    high = sunset * np.sin(lat) * np.sin(declination) + np.cos(lat) * np.cos(declination) * np.sin(sunset)
    return np.asarray(24 * 60 / np.pi * SOLAR_CONSTANT * near * high)


def clearness(latitude: float) -> NDArray[np.float64]:
    """Share of the light above the clouds that comes through by day of a 366-day year (366,) [0-1]: least under a low sun."""
    declination = _angles(latitude)[0]
    noon = np.cos(np.radians(latitude) - declination)
    return np.asarray(CLEAR * np.exp(-THROUGH / np.maximum(noon, 0.05)))


def light(latitude: float, *, lets_in: float = 1.0, lamps_mol: float = 0.0) -> NDArray[np.float64]:
    """Light that plants get by day of a 366-day year (366,) [mol/m² a day]: what the roof lets in [0-1], and lamps."""
    return np.asarray(above_clouds(latitude) * clearness(latitude) * MOL_PER_MJ * lets_in + lamps_mol)


def pace_in_light(mol: NDArray[np.float64], *, half_at_mol: float, enough_mol: float) -> NDArray[np.float64]:
    """How fast young plants grow in a light, against one that is enough [0-1]: it saturates, half of its most at `half_at_mol`.

    A model, fitted to days by the month that growers give for lettuce at about 50°; common practice, no source.
    """
    most = enough_mol / (enough_mol + half_at_mol)
    return np.asarray(np.minimum(1.0, mol / (mol + half_at_mol) / most))
