"""Feed: what is in a salt, what a solution holds of every element, what a target asks of a product."""

import math
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
#: Charge of an ion, and what one of its equivalents conducts in endless dilution at 25 °C [S·cm²/eq].
#: Source: tables of limiting ionic conductances (from memory).
IONS = {
    "K": (1, 73.5), "Na": (1, 50.1), "Ca": (2, 59.5), "Mg": (2, 53.1), "NH4": (1, 73.5), "metal": (2, 54.0),
    "NO3": (1, 71.4), "SO4": (2, 80.0), "Cl": (1, 76.4), "H2PO4": (1, 33.0), "HPO4": (2, 57.0),
}  # fmt: skip
METALS = {"Fe", "Mn", "Zn", "Cu", "Co", "Ni"}
PAIRS = {"Mg": 10**2.37, "Ca": 10**2.30}  # how strongly they go with sulphate [L/mol]; tables, from memory
PAIR_ROUNDS = 40
EC_WITHIN = 0.06  # of what the chemistry of a laboratory gives for solutions of salts up to 5 mS/cm
CATIONS_PER_EC = 10.0  # meq/L of cations to one mS/cm: the thumb, up to four tenths too low; common practice, no source
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
    """What a solution holds above its source water; `incompatible`: pairs that must not share a concentrated tank.

    `cations_meq_per_l`: of K, Na, Ca, Mg and ammonium; a tenth of it is the thumb by which EC is often guessed.
    """

    mg_per_l: dict[str, float]
    mmol_per_l_by_salt: dict[str, float]
    ec_ms_per_cm: float
    cations_meq_per_l: float
    incompatible: tuple[tuple[str, str], ...]
    working: Working = ()
    warnings: tuple[Warn, ...] = ()


def nutrient_solution(*, volume_l: float, salts: Sequence[Salt], concentrate: bool = False) -> NutrientSolution:
    """Milligrams a litre of every nutrient, and an estimate of the EC [mS/cm at 25 °C] from the ions of the salts.

    Calcium with sulphate or phosphate makes gypsum or calcium phosphate in a concentrated tank. The estimate is within
    `EC_WITHIN` for salts by their formula up to 5 mS/cm; urea and chelates conduct nothing in it, acids only what is left
    of them once they are neutral. Raises Refused.
    Source: arithmetic; EC: see `conductivity`; what falls out in a tank: common practice, no source.

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
    ions: dict[str, float] = defaultdict(float)
    part = False
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
            for ion, many in _ions(salt.formula).items():
                ions[ion] += mmol * many
            given = (
                Given(name, salt.grams, "g"),
                Given("molar mass", molar_mass(salt.formula), "g/mol", source="IUPAC"),
            )
            working.append(Step(name, "grams ÷ molar mass ÷ litres", given, mmol, "mmol/L"))
        else:
            part = True
            _ions_by_label(ions, by_weight, salt.grams * 1000 / volume_l)
    food = {element: found[element] for element in ATOMIC_WEIGHT if element in found and element not in NOT_FOOD}
    working += [Step(element, "grams × share ÷ litres", (), value, "mg/L") for element, value in food.items()]
    charge = sum(ions[ion] * of for ion, of in CHARGES.items())
    ec, strength = conductivity(ions)
    working += [
        Step("Cations", "mmol × charge", (), charge, "meq/L"),
        Step(
            "EC above source water",
            "mol × charge × (conductance − charge × (30.1 + 0.229 × conductance) × √I ÷ (1 + √I)), free ions",
            (computed("I", strength, "mol/L"),),
            ec,
            "mS/cm",
        ),
    ]
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
    return NutrientSolution(food, moles, ec, charge, pairs, tuple(working), tuple(warnings))


def _ions_by_label(ions: dict[str, float], by_weight: Mapping[str, float], mg_per_l: float) -> None:
    """Add the ions of a product [mmol/L]. What balances its cations is not on the label; mostly it is nitrate."""
    for element in CHARGES.keys() & by_weight.keys():
        mmol = mg_per_l * by_weight[element] / ATOMIC_WEIGHT[element]
        ions[element] += mmol
        ions["NO3"] += mmol * CHARGES[element]


def conductivity(ions: Mapping[str, float]) -> tuple[float, float]:
    """EC [mS/cm] at 25 °C of ions [mmol/L by their name in `IONS`], and the ionic strength [mol/L].

    Each ion is slowed by the others (Onsager's limiting law, its root damped as in Güntelberg's), and magnesium and
    calcium that go with sulphate as a pair conduct nothing. Source: textbooks of physical chemistry, from memory.

    >>> round(conductivity({"K": 10, "Cl": 10})[0], 2)  # the standard of 0.01 mol/L has 1.41
    1.41
    """
    whole = {ion: mmol / 1000 for ion, mmol in ions.items() if mmol}
    free = dict(whole)
    for _ in range(PAIR_ROUNDS):
        root = math.sqrt(_strength(free))
        activity = 10 ** (-2 * 0.509 * 4 * (root / (1 + root) - 0.3 * root * root))
        sulphate = free.get("SO4", 0.0)
        bound = {ion: strong * activity for ion, strong in PAIRS.items() if ion in whole}
        free = {ion: moles / (1 + bound.get(ion, 0.0) * sulphate) for ion, moles in whole.items()}
        if "SO4" in whole:
            free["SO4"] = whole["SO4"] / (1 + sum(strong * free[ion] for ion, strong in bound.items()))
    strength = _strength(free)
    slow = math.sqrt(strength) / (1 + math.sqrt(strength))
    ec = 0.0
    for ion, moles in free.items():
        charge, endless = IONS[ion]
        ec += moles * charge * (endless - charge * (30.1 + 0.229 * endless) * slow)
    return max(0.0, ec), strength


def _strength(moles: Mapping[str, float]) -> float:
    return sum(many * IONS[ion][0] ** 2 for ion, many in moles.items()) / 2


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


def _ions(formula: str) -> dict[str, float]:
    """Ions that a molecule of a salt gives to the solution; none for what holds carbon, such as urea and chelates."""
    counts = atoms(formula)
    if "C" in counts:
        return {}
    plain = formula.translate(SUBSCRIPTS)
    ammonium = len(re.findall(r"(?<!\()NH4", plain)) + sum(int(n or 1) for n in re.findall(r"\(NH4\)(\d*)", plain))
    found = {name: counts.get(name, 0.0) for name in ("K", "Na", "Ca", "Mg", "Cl")} | {"NH4": float(ammonium)}
    found["NO3"] = max(0.0, counts.get("N", 0.0) - ammonium)
    found["SO4"] = counts.get("S", 0.0)
    positive = sum(found[ion] * charge for ion, charge in CHARGES.items())
    left = positive - found["NO3"] - found["Cl"] - 2 * found["SO4"]
    phosphate = counts.get("P", 0.0)
    found["HPO4" if phosphate and left >= 2 * phosphate else "H2PO4"] = phosphate
    if left < 0 and counts.keys() & METALS:
        found["metal"] = -left / 2
    return {ion: many for ion, many in found.items() if many}


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
