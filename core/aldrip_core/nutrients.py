"""Feed: what is in a salt, what a solution holds of every element, what a target asks of a product."""

import re
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from itertools import combinations
from typing import ClassVar

from aldrip_core.refusal import Warn, refuse
from aldrip_core.working import Given, Step, Working, computed

#: Standard atomic weights, abridged [g/mol]. Source: IUPAC Commission on Isotopic Abundances 2021 (from memory).
ATOMIC_WEIGHT = {
    "H": 1.008, "B": 10.81, "C": 12.011, "N": 14.007, "O": 15.999, "Na": 22.990, "Mg": 24.305, "Si": 28.085,
    "P": 30.974, "S": 32.06, "Cl": 35.45, "K": 39.098, "Ca": 40.078, "Mn": 54.938, "Fe": 55.845, "Co": 58.933,
    "Cu": 63.546, "Zn": 65.38, "Mo": 95.95, "Se": 78.971, "Ni": 58.693,
}  # fmt: skip
NOT_FOOD = ("H", "O", "C")  # of water, air and what carries the rest
#: Atoms of the element and of oxygen in the oxide by which labels count it.
OXIDES = {"P": (2, 5), "K": (2, 1), "Ca": (1, 1), "Mg": (1, 1), "S": (1, 3), "Si": (1, 2), "Na": (2, 1)}
CHARGES = {"K": 1, "Na": 1, "Ca": 2, "Mg": 2, "NH4": 1}  # cations that carry the current
CATIONS_PER_EC = 10.0  # meq/L of cations to one mS/cm in nutrient solutions; common practice, no source; within a tenth
ELEMENT = re.compile(r"([A-Z][a-z]?)(\d*)|(\()|(\))(\d*)")
SUBSCRIPTS = str.maketrans("₀₁₂₃₄₅₆₇₈₉", "0123456789")


class LabelAs(StrEnum):
    """How a label states a nutrient: as the element itself, or as its oxide (P₂O₅, K₂O)."""

    ELEMENT = "element"
    OXIDE = "oxide"


def atoms(formula: str, field: str = "formula") -> dict[str, float]:
    """Atoms of each element in a formula, water of crystals behind a dot. Raises Refused.

    >>> atoms("Ca(NO3)2·4H2O")
    {'Ca': 1.0, 'N': 2.0, 'O': 10.0, 'H': 8.0}
    """
    found: dict[str, float] = defaultdict(float)
    for part in re.split(r"[·.*•]", formula.translate(SUBSCRIPTS).replace(" ", "")):
        many = re.match(r"\d+", part)
        times, rest = (int(many[0]), part[many.end() :]) if many else (1, part)
        for element, count in _group(rest, formula, field).items():
            found[element] += times * count
    if not found:
        raise _unreadable(formula, field)
    return dict(found)


def _group(text: str, formula: str, field: str) -> dict[str, float]:
    stack: list[dict[str, float]] = [defaultdict(float)]
    at = 0
    while at < len(text):
        match = ELEMENT.match(text, at)
        if match is None:
            raise _unreadable(formula, field)
        at = match.end()
        element, count, opens, closes, times = match.groups()
        if opens:
            stack.append(defaultdict(float))
        elif closes:
            if len(stack) < 2:
                raise _unreadable(formula, field)
            for name, many in stack.pop().items():
                stack[-1][name] += many * int(times or 1)
        else:
            if element not in ATOMIC_WEIGHT:
                raise refuse(field, "unknown_element", f"“{element}” in {formula} is no element that is known here.")
            stack[-1][element] += int(count or 1)
    if len(stack) != 1:
        raise _unreadable(formula, field)
    return stack[0]


def _unreadable(formula: str, field: str) -> Exception:
    return refuse(field, "unreadable", f"“{formula}” is no formula. Write it like KNO3 or Ca(NO3)2·4H2O.")


def molar_mass(formula: str, field: str = "formula") -> float:
    """Grams of one mole [g/mol].

    >>> round(molar_mass("KH2PO4"), 2)
    136.08
    """
    return sum(ATOMIC_WEIGHT[element] * count for element, count in atoms(formula, field).items())


@dataclass(frozen=True, slots=True)
class Salt:
    """Grams of a salt by its formula, or of a product by its analysis, percent of each element by weight."""

    grams: float
    formula: str | None = None
    analysis: Mapping[str, float] | None = None


@dataclass(frozen=True, slots=True)
class NutrientSolution:
    """What a solution holds above its source water; `incompatible`: pairs that must not share a concentrated tank."""

    mg_per_l: dict[str, float]
    mmol_per_l_by_salt: dict[str, float]
    ec_ms_per_cm: float
    incompatible: tuple[tuple[str, str], ...]
    working: Working = ()
    warnings: tuple[Warn, ...] = ()


def nutrient_solution(*, volume_l: float, salts: Sequence[Salt], concentrate: bool = False) -> NutrientSolution:
    """Milligrams a litre of every nutrient, and an estimate of the EC [mS/cm] from the sum of cations.

    Calcium with sulphate or phosphate makes gypsum or calcium phosphate in a concentrated tank. The estimate is within a
    tenth of what is measured for complete solutions and says nothing of urea. Raises Refused.
    Source: arithmetic; pairs and EC: common practice, no source.

    >>> nutrient_solution(volume_l=100, salts=[Salt(10, formula="MgSO4·7H2O")]).mg_per_l["Mg"].__round__(2)
    9.86
    """
    if volume_l <= 0:
        raise refuse("volume_l", "out_of_range", "In how many litres? More than none.")
    if not salts:
        raise refuse("salts", "empty", "Name at least one salt.")
    found: dict[str, float] = defaultdict(float)
    moles: dict[str, float] = {}
    holds: dict[str, set[str]] = {}
    charge, part = 0.0, False
    working: list[Step] = []
    for n, salt in enumerate(salts):
        name, by_weight = _shares(salt, n)
        if name in holds:
            raise refuse(f"salts.{n}", "twice", f"{name} stands there twice; add them up.")
        holds[name] = set(by_weight)
        for element, share in by_weight.items():
            found[element] += salt.grams * 1000 * share / volume_l
        if salt.formula is not None:
            mmol = salt.grams / molar_mass(salt.formula) * 1000 / volume_l
            moles[name] = mmol
            charge += mmol * _cations(salt.formula)
            given = (
                Given(name, salt.grams, "g"),
                Given("molar mass", molar_mass(salt.formula), "g/mol", source="IUPAC"),
            )
            working.append(Step(name, "grams ÷ molar mass ÷ litres", given, mmol, "mmol/L"))
        else:
            part = True
            charge += sum(
                salt.grams * 1000 * share / volume_l / ATOMIC_WEIGHT[e] * CHARGES.get(e, 0)
                for e, share in by_weight.items()
            )
    food = {element: found[element] for element in ATOMIC_WEIGHT if element in found and element not in NOT_FOOD}
    working += [Step(element, "grams × share ÷ litres", (), value, "mg/L") for element, value in food.items()]
    ec = charge / CATIONS_PER_EC
    working.append(Step("EC above source water", "cations ÷ 10", (computed("cations", charge, "meq/L"),), ec, "mS/cm"))
    pairs = tuple(
        pair if "Ca" in holds[pair[0]] else (pair[1], pair[0])
        for pair in combinations(holds, 2)
        if any("Ca" in holds[a] and holds[b] & {"P", "S"} and "Ca" not in holds[b] for a, b in (pair, pair[::-1]))
    )
    warnings = []
    if concentrate and pairs:
        told = " and ".join(f"{a} with {b}" for a, b in pairs)
        warnings.append(
            Warn("incompatible", f"{told} fall out in a concentrated tank: keep calcium in a tank of its own.")
        )
    if part:
        warnings.append(Warn("ec_in_part", "Products by analysis do not say their ammonium: the EC may be higher."))
    return NutrientSolution(food, moles, ec, pairs, tuple(working), tuple(warnings))


def _shares(salt: Salt, n: int) -> tuple[str, dict[str, float]]:
    """Name of a salt, and the share of each element in it by weight."""
    at = f"salts.{n}"
    if (salt.formula is None) == (salt.analysis is None):
        raise refuse(at, "one_of", "A salt is given by its formula or by its analysis.")
    if salt.grams <= 0:
        raise refuse(f"{at}.grams", "out_of_range", "How many grams? More than nothing.")
    if salt.formula is not None:
        counts = atoms(salt.formula, f"{at}.formula")
        whole = molar_mass(salt.formula)
        return salt.formula, {element: ATOMIC_WEIGHT[element] * many / whole for element, many in counts.items()}
    given = salt.analysis or {}
    for element, percent in given.items():
        if element not in ATOMIC_WEIGHT:
            told = f"“{element}” is no element: write P and K, not P2O5 and K2O (a label's 20 % P2O5 are 8.7 % P)."
            raise refuse(f"{at}.analysis.{element}", "unknown_element", told)
        if not 0 < percent <= 100:
            raise refuse(f"{at}.analysis.{element}", "out_of_range", "A percentage above 0 and up to 100.")
    if not given or sum(given.values()) > 100 + 1e-9:
        raise refuse(f"{at}.analysis", "out_of_range", f"The analysis adds up to {sum(given.values()):g} %.")
    return f"product {n + 1}", {element: percent / 100 for element, percent in given.items()}


def _cations(formula: str) -> float:
    """Positive charges that a mole of a salt gives to the solution."""
    counts = atoms(formula)
    plain = formula.translate(SUBSCRIPTS)
    ammonium = len(re.findall(r"(?<!\()NH4", plain)) + sum(int(n or 1) for n in re.findall(r"\(NH4\)(\d*)", plain))
    return sum(counts.get(element, 0) * charge for element, charge in CHARGES.items()) + ammonium


@dataclass(frozen=True, slots=True)
class FeedRate:
    """Grams of a product a litre and in all; of the stock solution where an injector thins it."""

    grams_per_l: float
    grams: float
    stock_grams_per_l: float | None = None
    working: Working = ()
    warnings: tuple[Warn, ...] = ()

    nullable: ClassVar = ()


def element_share(element: str) -> float:
    """Share of an element in the oxide by which labels count it [0-1]. Raises Refused.

    >>> round(element_share("P"), 3), round(element_share("K"), 3)
    (0.436, 0.83)
    """
    if element not in OXIDES:
        raise refuse("label_as", "no_oxide", f"Labels state {element} as the element, not as an oxide.")
    of, oxygen = OXIDES[element]
    own = of * ATOMIC_WEIGHT[element]
    return own / (own + oxygen * ATOMIC_WEIGHT["O"])


def feed_rate(
    *,
    target_mg_per_l: float,
    element: str,
    label_percent: float,
    label_as: LabelAs = LabelAs.ELEMENT,
    volume_l: float,
    injector_ratio: float | None = None,
) -> FeedRate:
    """Grams of a product for so many mg of an element a litre; `injector_ratio`: final ÷ stock volume.

    Raises Refused. Source: arithmetic.

    >>> feed_rate(target_mg_per_l=250, element="N", label_percent=20, volume_l=100).grams_per_l
    1.25
    """
    if element not in ATOMIC_WEIGHT:
        raise refuse("element", "unknown_element", f"“{element}” is no element that is known here.")
    if not 0 < label_percent <= 100:
        raise refuse("label_percent", "out_of_range", "A percentage above 0 and up to 100.")
    for name, value in (("target_mg_per_l", target_mg_per_l), ("volume_l", volume_l)):
        if value <= 0:
            raise refuse(name, "out_of_range", "More than nothing is needed.")
    if injector_ratio is not None and injector_ratio < 1:
        raise refuse("injector_ratio", "out_of_range", "An injector thins: 1 or more, such as 100 for 1 in 100.")
    share = label_percent / 100 * (element_share(element) if label_as is LabelAs.OXIDE else 1.0)
    per_l = target_mg_per_l / 1000 / share
    stock = None if injector_ratio is None else per_l * injector_ratio
    working = [
        Step(
            f"{element} in it",
            "label" if label_as is LabelAs.ELEMENT else "label × share of the element in its oxide",
            (Given("label", label_percent, "%"),),
            share,
            "share",
        ),
        Step("Product", "target ÷ 1000 ÷ share", (Given("target", target_mg_per_l, "mg/L"),), per_l, "g/L"),
        Step("In all", "g/L × litres", (Given("litres", volume_l, "L"),), per_l * volume_l, "g"),
    ]
    if stock is not None:
        working.append(Step("Stock", "g/L × injector ratio", (Given("injector", injector_ratio),), stock, "g/L"))
    return FeedRate(per_l, per_l * volume_l, stock, tuple(working))
