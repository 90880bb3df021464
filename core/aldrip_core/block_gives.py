"""What a block of seed can give against what its method reckons with: its females, its stand, its pollen."""

from dataclasses import dataclass

from aldrip_core.refusal import refuse
from aldrip_core.working import Given, Origin, Step, Working, computed


@dataclass(frozen=True, slots=True)
class Sown:
    """A line as it was sown: kilos, thousand-grain weight [g], germination [0-1]."""

    kg: float
    tgw_g: float
    germination: float


@dataclass(frozen=True, slots=True)
class BlockGives:
    """Share of the method's kilos that a block can give [0-1], and its parts: females, stand, pollen."""

    share: float
    females: float
    stand: float
    pollen: float
    working: Working = ()


def needed_for(establishment: float, germination: float | None, usual: float | None) -> float:
    """Share of seeds that become plants, of a lot that germinates otherwise than seed usually does [0-1].

    `establishment` holds for seed of the usual germination; it follows a lot's own in proportion, and is never over 1.
    Common practice, no source.

    >>> round(needed_for(0.80, 0.60, 0.90), 3)
    0.533
    """
    if not germination or not usual:
        return establishment
    return min(1.0, establishment * germination / usual)


def stand_of(*, plants: float, establishment: float, usual: float, sown: tuple[Sown, ...]) -> float:
    """Share of the plants that were wanted which stand, from what was sown [0-1]; 1 before anything was.

    A stand thicker than wanted gives no more. Common practice, no source.

    >>> round(stand_of(plants=80_000, establishment=0.8, usual=0.9, sown=(Sown(2.0, 50.0, 0.9),)), 2)
    0.4
    """
    if not sown or plants <= 0:
        return 1.0
    stands = sum(needed_for(establishment, one.germination, usual) * one.kg * 1e6 / one.tgw_g for one in sown)
    return min(1.0, stands / plants)


def block_gives(
    *, females: float | None = None, stand: float = 1.0, pollen: float | None = None, males: float = 1.0
) -> BlockGives:
    """What a block gives against its method: the product of its parts, a model for comparison and no more.

    females: female metres against those of the method's own pattern on the same ground, None where there are none to
    count; more than usual are taken as usual, since the pollen for them is not known. stand: plants against those
    wanted. pollen: share of the receptive days that are covered, None where nobody knows or none is needed. males: share
    of the male plants that stand; without any there is no pollen. All [0-1]. Raises Refused for shares that are none.
    Common practice, no source.

    >>> block_gives(females=0.46 / 0.6, stand=1.0, pollen=0.9).share
    0.69
    """
    for name, value in (("stand", stand), ("males", males), ("pollen", pollen), ("females", females)):
        if value is not None and not value >= 0:
            raise refuse(name, "out_of_range", f"A share of {value:g} cannot be.")
    bearing = 1.0 if females is None else min(1.0, females)
    covered = (1.0 if pollen is None else min(1.0, pollen)) if males > 0 else 0.0
    share = round(bearing * min(1.0, stand) * covered, 12)
    given = [computed("plants that stand", min(1.0, stand), "share")]
    if females is not None:
        told = "female rows, against the method’s pattern"
        given.insert(0, Given(told, bearing, "share", Origin.COMPUTED))
    if pollen is not None or males <= 0:
        given.append(computed("receptive days with pollen", covered, "share"))
    step = Step(
        "What the block gives of the method’s kilos", "product of its parts; a model", tuple(given), share, "share"
    )
    return BlockGives(share, bearing, min(1.0, stand), covered, (step,))
