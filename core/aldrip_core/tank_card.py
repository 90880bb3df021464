"""A feed in a tank: what is weighed in for it, into which stock tank, and what comes out at the plants."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from aldrip_core.nutrients import OXIDES, NutrientSolution, Salt, atoms, element_share, nutrient_solution
from aldrip_core.refusal import Warn, refuse
from aldrip_core.working import Given, Step, Working, computed

MOST_RATIO = 1000.0
#: Grams that a litre of cold water still takes up with ease, of the salts that come first to their end.
#: Source: tables of solubility at 10 to 20 °C, rounded down (from memory).
TAKES_UP = {"KNO3": 200.0, "K2SO4": 90.0, "KH2PO4": 180.0, "MgSO4·7H2O": 600.0, "NH4H2PO4": 290.0}


@dataclass(frozen=True, slots=True)
class FeedPart:
    """So many grams in a recipe of a salt by its formula, or of a product by what its label says it contains [% by weight]."""

    name: str
    grams: float
    formula: str | None = None
    label: Mapping[str, float] | None = None


@dataclass(frozen=True, slots=True)
class Weighed:
    """What is weighed into a tank [g]."""

    name: str
    grams: float


@dataclass(frozen=True, slots=True)
class FeedTank:
    """A tank and what goes into it, in the order in which it is dissolved."""

    name: str
    litres: float
    parts: tuple[Weighed, ...]


@dataclass(frozen=True, slots=True)
class TankCard:
    """Tanks to fill, and what a litre holds at the plants above the source water; EC with it [mS/cm]."""

    tanks: tuple[FeedTank, ...]
    solution: NutrientSolution
    ec_ms_per_cm: float
    oxides_mg_per_l: dict[str, float]
    working: Working = ()
    warnings: tuple[Warn, ...] = ()


def from_label(label: Mapping[str, float]) -> dict[str, float]:
    """What a label says, oxides as elements [% by weight]; names that are neither are left out.

    >>> {name: round(share, 2) for name, share in from_label({"N": 20, "P2O5": 20, "K2O": 20}).items()}
    {'N': 20.0, 'P': 8.73, 'K': 16.6}
    """
    found: dict[str, float] = {}
    written = {_oxide(element): element for element in OXIDES}
    for name, percent in label.items():
        element = written.get(name)
        if element is not None:
            found[element] = found.get(element, 0.0) + percent * element_share(element)
        elif name in OXIDES or name in ("N", "B", "Fe", "Mn", "Zn", "Cu", "Mo", "Cl", "Co", "Se", "Ni"):
            found[name] = found.get(name, 0.0) + percent
    return found


def _oxide(element: str) -> str:
    """How a label writes an oxide: P2O5, K2O, CaO."""
    many, oxygen = OXIDES[element]
    return f"{element}{many if many > 1 else ''}O{oxygen if oxygen > 1 else ''}"


def tank_card(
    *,
    parts: Sequence[FeedPart],
    recipe_l: float,
    litres: float,
    ratio: float | None = None,
    source_ec: float = 0.0,
) -> TankCard:
    """What is weighed in for so many litres of feed at the plants; through an injector of 1 in `ratio` from stock tanks.

    Calcium stands in a tank of its own where what falls out with it is in the recipe and the tank is concentrated.
    `source_ec`: EC of the water before [mS/cm]. Raises Refused. Source: arithmetic; EC as of `nutrient_solution`.
    """
    _check_tank(recipe_l, litres, ratio, source_ec)
    salts = [
        Salt(part.grams, formula=part.formula)
        if part.formula
        else Salt(part.grams, analysis=from_label(part.label or {}))
        for part in parts
    ]
    solution = nutrient_solution(volume_l=recipe_l, salts=salts, concentrate=ratio is not None)
    times = litres / recipe_l
    weighed = [Weighed(part.name, part.grams * times) for part in parts]
    holds = [_elements(part) for part in parts]
    apart = ratio is not None and bool(solution.incompatible)
    stock_l = litres / ratio if ratio is not None else litres
    calcium = tuple(one for one, of in zip(weighed, holds, strict=True) if "Ca" in of)
    rest = tuple(one for one, of in zip(weighed, holds, strict=True) if "Ca" not in of)
    whole = FeedTank("Stock" if ratio is not None else "Tank", stock_l, tuple(weighed))
    tanks = (FeedTank("A", stock_l, calcium), FeedTank("B", stock_l, rest)) if apart else (whole,)
    warnings = [one for one in solution.warnings if one.code != "incompatible"]
    if apart:
        told = "Calcium falls out with sulphate or phosphate in a concentrated tank: A and B, never together."
        warnings.append(Warn("incompatible", told))
    warnings += _stock_warnings(parts, weighed, stock_l, stock=ratio is not None)
    oxides = {
        _oxide(name): solution.mg_per_l[name] / element_share(name) for name in ("P", "K") if name in solution.mg_per_l
    }
    ec = source_ec + solution.ec_ms_per_cm
    working = [
        Step(
            "Times the recipe",
            "litres ÷ litres of the recipe",
            (Given("litres", litres, "L"), Given("recipe", recipe_l, "L")),
            times,
        ),
    ]
    if ratio is not None:
        working.append(Step("Stock", "litres ÷ ratio", (Given("injector, 1 in", ratio),), stock_l, "L"))
    working += [
        Step(
            one.name,
            "grams of the recipe × times",
            (Given("recipe", part.grams, "g"), computed("times", times)),
            one.grams,
            "g",
        )
        for part, one in zip(parts, weighed, strict=True)
    ]
    working += list(solution.working)
    working.append(
        Step(
            "EC at the plants",
            "water + feed",
            (Given("water", source_ec, "mS/cm"), computed("feed", solution.ec_ms_per_cm, "mS/cm")),
            ec,
            "mS/cm",
        )
    )
    return TankCard(tanks, solution, ec, oxides, tuple(working), tuple(warnings))


def _check_tank(recipe_l: float, litres: float, ratio: float | None, source_ec: float) -> None:
    if not 0 < litres <= 10_000_000:
        raise refuse("litres", "out_of_range", "How many litres of feed? More than none, at most 10,000,000.")
    if recipe_l <= 0:
        raise refuse("recipe_l", "out_of_range", "For how many litres is the recipe? More than none.")
    if ratio is not None and not 1 < ratio <= MOST_RATIO:
        told = f"An injector thins: 1 in 2 to 1 in {MOST_RATIO:g}, written as 100 for 1 in 100."
        raise refuse("ratio", "out_of_range", told)
    if not 0 <= source_ec <= 10:
        raise refuse("source_ec", "out_of_range", f"Water of {source_ec:g} mS/cm feeds nothing. In mS/cm: 0 to 10.")


def _stock_warnings(
    parts: Sequence[FeedPart], weighed: Sequence[Weighed], stock_l: float, *, stock: bool
) -> list[Warn]:
    """What cannot stand in one tank with itself, and what does not dissolve."""
    found = []
    for part, one in zip(parts, weighed, strict=True):
        of, most = _elements(part), TAKES_UP.get(part.formula or "")
        if stock and "Ca" in of and of & {"P", "S"}:
            told = f"{part.name} holds calcium with what falls out with it: do not make a stock solution of it."
            found.append(Warn("incompatible", told))
        if most is not None and one.grams / stock_l > most:
            strong = f"{one.grams / stock_l:,.0f} g of {part.name} a litre do not dissolve in cold water"
            found.append(Warn("too_strong", f"{strong}, about {most:g} g do: thin the stock."))
    return found


def _elements(part: FeedPart) -> set[str]:
    return set(atoms(part.formula)) if part.formula else set(from_label(part.label or {}))


@dataclass(frozen=True, slots=True)
class FeedBand:
    """Between which EC [mS/cm] and pH a feed is given; None where it does not matter."""

    ec_low: float | None = None
    ec_high: float | None = None
    ph_low: float | None = None
    ph_high: float | None = None


def read_feed(ec: float | None, ph: float | None, band: FeedBand) -> tuple[str, ...]:
    """What a reading of a feed is off by, in words; empty where it is inside. Raises Refused for what cannot be.

    >>> read_feed(2.4, 6.0, FeedBand(1.2, 1.6, 5.5, 6.5))
    ('EC 2.4 mS/cm, 0.8 over 1.6: thin it with water',)
    """
    if ec is None and ph is None:
        raise refuse("ec", "missing", "What was read? EC, pH, or both.")
    if ec is not None and not 0 <= ec <= 20:
        raise refuse(
            "ec", "out_of_range", f"{ec:g} mS/cm cannot be; up to 20. Is it in µS/cm? 1,000 µS/cm are 1 mS/cm."
        )
    if ph is not None and not 0 <= ph <= 14:
        raise refuse("ph", "out_of_range", f"A pH of {ph:g} cannot be; 0 to 14.")
    said = []
    if ec is not None and band.ec_high is not None and ec > band.ec_high:
        said.append(f"EC {ec:g} mS/cm, {ec - band.ec_high:.2g} over {band.ec_high:g}: thin it with water")
    if ec is not None and band.ec_low is not None and ec < band.ec_low:
        said.append(f"EC {ec:g} mS/cm, {band.ec_low - ec:.2g} under {band.ec_low:g}: too thin")
    if ph is not None and band.ph_high is not None and ph > band.ph_high:
        said.append(f"pH {ph:g}, {ph - band.ph_high:.2g} over {band.ph_high:g}")
    if ph is not None and band.ph_low is not None and ph < band.ph_low:
        said.append(f"pH {ph:g}, {band.ph_low - ph:.2g} under {band.ph_low:g}")
    return tuple(said)
