"""Units with dimensions: what can be counted, weighed and measured, in exact decimals of a base unit."""

from dataclasses import dataclass
from decimal import ROUND_HALF_EVEN, Decimal
from enum import Enum, StrEnum

from aldrip_core.refusal import refuse

SMALLEST = Decimal("0.0001")  # of a base unit: a tenth of a milligram of seed


class Dimension(StrEnum):
    """What a quantity measures."""

    PIECES = "pieces"
    MASS = "mass"
    VOLUME = "volume"
    AREA = "area"
    LENGTH = "length"
    TRAYS = "trays"
    TIME = "time"
    MONEY = "money"


@dataclass(frozen=True, slots=True)
class Scale:
    """How a unit is written, what it measures, and how many base units it is. Pieces are told apart by kind."""

    name: str
    dimension: Dimension
    factor: Decimal = Decimal(1)
    kind: str = ""


def _pieces(name: str) -> Scale:
    return Scale(name, Dimension.PIECES, kind=name)


class Unit(Enum):
    """Every unit that Aldrip reckons in. Base units: g, L, m², m, tray, hour, one of a currency, one piece."""

    GRAM = Scale("g", Dimension.MASS)
    KILOGRAM = Scale("kg", Dimension.MASS, Decimal(1000))
    TONNE = Scale("t", Dimension.MASS, Decimal(1_000_000))
    MILLILITRE = Scale("ml", Dimension.VOLUME, Decimal("0.001"))
    LITRE = Scale("L", Dimension.VOLUME)
    CUBIC_METRE = Scale("m³", Dimension.VOLUME, Decimal(1000))
    SQUARE_METRE = Scale("m²", Dimension.AREA)
    HECTARE = Scale("ha", Dimension.AREA, Decimal(10_000))
    CENTIMETRE = Scale("cm", Dimension.LENGTH, Decimal("0.01"))
    METRE = Scale("m", Dimension.LENGTH)
    KILOMETRE = Scale("km", Dimension.LENGTH, Decimal(1000))
    TRAY = Scale("trays", Dimension.TRAYS)
    MINUTE = Scale("min", Dimension.TIME, Decimal(1) / Decimal(60))
    HOUR = Scale("h", Dimension.TIME)
    MONEY = Scale("money", Dimension.MONEY)
    PIECE = _pieces("pieces")
    SEED = _pieces("seeds")
    CELL = _pieces("cells")
    PLANT = _pieces("plants")
    CUTTING = _pieces("cuttings")
    POT = _pieces("pots")
    TUBER = _pieces("tubers")
    SETT = _pieces("setts")
    BULB = _pieces("bulbs")
    ROOT = _pieces("roots")
    RUNNER = _pieces("runners")
    SLIP = _pieces("slips")
    DIVISION = _pieces("divisions")
    GRAFT = _pieces("grafts")
    MOTHER = _pieces("mothers")
    BUNDLE = _pieces("bundles")
    BUNCH = _pieces("bunches")
    STEM = _pieces("stems")
    HEAD = _pieces("heads")
    LEAF = _pieces("leaves")
    MAT = _pieces("mats")
    CRATE = _pieces("crates")
    BAG = _pieces("bags")
    PACKET = _pieces("packets")
    HIVE = _pieces("hives")

    @property
    def words(self) -> str:
        """How it is written."""
        return self.value.name

    @property
    def dimension(self) -> Dimension:
        return self.value.dimension

    @property
    def is_pieces(self) -> bool:
        """Whether it is counted, in whole numbers."""
        return self.value.dimension in (Dimension.PIECES, Dimension.TRAYS)

    @property
    def is_mass(self) -> bool:
        return self.value.dimension is Dimension.MASS

    @property
    def base(self) -> "Unit":
        """The unit in which quantities of this one are kept."""
        return self if self.is_pieces else _BASES[self.dimension]

    def same_measure(self, other: "Unit") -> bool:
        """Whether quantities of both can be added: one dimension, and one kind of piece.

        >>> Unit.GRAM.same_measure(Unit.KILOGRAM), Unit.PLANT.same_measure(Unit.POT)
        (True, False)
        """
        return (self.dimension, self.value.kind) == (other.dimension, other.value.kind)


_BASES = {
    Dimension.MASS: Unit.GRAM,
    Dimension.VOLUME: Unit.LITRE,
    Dimension.AREA: Unit.SQUARE_METRE,
    Dimension.LENGTH: Unit.METRE,
    Dimension.TIME: Unit.HOUR,
    Dimension.MONEY: Unit.MONEY,
}
_BY_NAME = {unit.value.name: unit for unit in Unit}
_ALSO = {"m2": Unit.SQUARE_METRE, "l": Unit.LITRE, "tray": Unit.TRAY, "hours": Unit.HOUR, "minutes": Unit.MINUTE}


def unit(name: str) -> Unit:
    """The unit that is written so. Raises Refused for one that nothing is reckoned in.

    >>> unit("kg") is Unit.KILOGRAM
    True
    """
    found = _BY_NAME.get(name) or _ALSO.get(name)
    if found is None:
        raise refuse("unit", "unknown_unit", f"“{name}” is no unit here. Known: {', '.join(sorted(_BY_NAME))}.")
    return found


def exact(value: float | int | str | Decimal) -> Decimal:
    """A number as an exact decimal of as many places as are kept.

    >>> exact(0.1), exact(12000)
    (Decimal('0.1000'), Decimal('12000.0000'))
    """
    return Decimal(str(value)).quantize(SMALLEST, ROUND_HALF_EVEN)


def to_base(value: float | int | str | Decimal, of: Unit) -> Decimal:
    """A quantity in `of` as an exact decimal of its base unit.

    >>> to_base("0.25", Unit.KILOGRAM)
    Decimal('250.0000')
    """
    return exact(Decimal(str(value)) * of.value.factor)


def from_base(value: Decimal | int, to: Unit) -> Decimal:
    """A quantity kept in base units, in `to`.

    >>> from_base(Decimal(250), Unit.KILOGRAM)
    Decimal('0.25')
    """
    return Decimal(value) / to.value.factor


@dataclass(frozen=True, slots=True)
class Quantity:
    """So much of a unit: `base` in its base unit, exact."""

    base: Decimal
    unit: Unit

    @staticmethod
    def of(value: float | int | str | Decimal, of: Unit) -> "Quantity":
        """A quantity as it was written."""
        return Quantity(to_base(value, of), of)

    @property
    def shown(self) -> Decimal:
        """The number in the unit in which it was written."""
        return from_base(self.base, self.unit)

    def words(self) -> str:
        """“1,200 kg”, “250 g”, “12,000 plants”.

        >>> Quantity.of(1200, Unit.KILOGRAM).words(), Quantity.of("62.80", Unit.GRAM).words()
        ('1,200 kg', '62.8 g')
        """
        return f"{plain(self.shown)} {self.unit.words}"


def written(text: str) -> Quantity:
    """A quantity from how it is written: a number, a space, a unit.

    >>> written("0.5 kg").base, written("20 ml").base
    (Decimal('500.0000'), Decimal('0.0200'))
    """
    number, _, name = text.partition(" ")
    return Quantity.of(number, unit(name))


def plain(value: Decimal | int | float) -> str:
    """A number with separated thousands and no more decimals than it has.

    >>> plain(Decimal("1200.5000")), plain(3)
    ('1,200.5', '3')
    """
    text = f"{Decimal(str(value)).normalize():,f}"
    return text.rstrip("0").rstrip(".") if "." in text else text
