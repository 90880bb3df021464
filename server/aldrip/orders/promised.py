"""What is promised, in the units in which it is kept: seeds are weighed, kilos are grams."""

from decimal import Decimal

from aldrip.base.errors import refuse
from aldrip.orders.models import OrderLine
from aldrip_core.units import Unit, exact, from_base, unit


def tgw_of_line(line: OrderLine) -> float:
    """Thousand-grain weight by which promised seeds are weighed [g]: of the cultivar, else the crop. Raises Refused."""
    tgw = (line.line.tgw_g if line.line else None) or line.crop.tgw_g
    if not tgw:
        raise refuse(
            "quantity",
            "no_weight",
            f"Seeds of {line.crop.name.lower()} are weighed by their thousand-grain weight, which is not known. Promise a weight instead.",
        )
    return tgw


def in_grams(line: OrderLine, quantity: Decimal) -> Decimal:
    """A quantity of a line as grams: counted seeds by their thousand-grain weight."""
    if unit(line.unit) is Unit.SEED:
        return exact(Decimal(quantity) * Decimal(str(tgw_of_line(line))) / 1000)
    return quantity


def in_seeds(line: OrderLine, grams: Decimal) -> Decimal:
    """Grams of seed as the number of seeds that a line promises. Raises Refused where their weight is not known."""
    return exact((grams * 1000 / Decimal(str(tgw_of_line(line)))).to_integral_value())


def shown(value: Decimal | float | None, of: str) -> float | None:
    """A quantity kept in base units as people read it in `of`."""
    return None if value is None else float(from_base(Decimal(str(value)), unit(of)))
