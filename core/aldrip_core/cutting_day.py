"""The day of cutting: which mothers are cut for which batch, and how what is cut is stuck."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from aldrip_core.stages import Part

NEARLY = 1e-9


@dataclass(frozen=True, slots=True)
class ToCut:
    """So many cuttings of a stock for a batch; without a stock: no mother that may be used gives them."""

    stock: int | None
    batch: int
    many: float


def to_cut(
    gives: Mapping[int, float],
    wanted: Sequence[tuple[int, float]],
    fits: Mapping[int, Sequence[int]],
) -> tuple[ToCut, ...]:
    """Who is cut for whom in a week: the batches in their order, each of the stocks that fit it in theirs, as long as they give.

    All by their numbers. gives: cuttings of each stock, the one to be cut first on top; wanted: batches and their cuttings, the first to be
    stuck on top; fits: the stocks that may be used for a batch. Nothing is cut twice, nothing is left out. Source: arithmetic.

    >>> to_cut({1: 30, 2: 50}, [(7, 40), (8, 60)], {7: [1, 2], 8: [2]})[:2]
    (ToCut(stock=1, batch=7, many=30), ToCut(stock=2, batch=7, many=10))
    >>> to_cut({1: 30, 2: 50}, [(7, 40), (8, 60)], {7: [1, 2], 8: [2]})[2:]
    (ToCut(stock=2, batch=8, many=40), ToCut(stock=None, batch=8, many=20))
    """
    left, found = dict(gives), []
    for batch, many in wanted:
        need = many
        allowed = set(fits.get(batch, ()))
        for stock in gives:
            part = min(need, left[stock]) if stock in allowed else 0.0
            if part > NEARLY:
                left[stock] -= part
                need -= part
                found.append(ToCut(stock, batch, part))
        if need > NEARLY:
            found.append(ToCut(None, batch, need))
    return tuple(found)


#: How what is planted is set; common practice, no source.
SETTING: dict[Part, tuple[tuple[str, str], ...]] = {
    Part.CUTTING: (
        ("Soak", "With weak feed until it runs through, before you stick"),
        ("Stick", "One or two nodes buried, the next above; firm them; large leaves trimmed"),
        ("Wait", "From the cut to the tray two hours at most, ten minutes of them in water"),
        ("After", "Little nitrogen until they root, then clear water once through"),
    ),
    Part.DIVISION: (("Set", "The crown level with the top or one to two centimetres above it: a buried crown rots"),),
    Part.TUBER: (("Set", "Eyes up, covered as deep as the tuber is thick"),),
    Part.SCION: (("Match", "Scion and rootstock of one thickness, cut at one slant, clipped at once, kept moist"),),
    Part.ROOTSTOCK: (("Match", "Scion and rootstock of one thickness, cut at one slant, clipped at once, kept moist"),),
}
#: What can hurt where cuttings and grafts are made; common practice, no source.
BLADES = (
    "Blades: cut away from the hand, a sheath for every knife, a first-aid box within reach.",
    "70 % ethanol burns: no flame, no sparks, lids on.",
)
BY_BLADE = (Part.CUTTING, Part.DIVISION, Part.SCION, Part.ROOTSTOCK)


def setting(part: Part) -> tuple[tuple[str, str], ...]:
    """How such a part is set, as label and words; nothing for seed.

    >>> setting(Part.SEED)
    ()
    """
    return SETTING.get(part, ())


def blade_cautions(part: Part) -> tuple[str, ...]:
    """What to take care of where such a part is cut."""
    return BLADES if part in BY_BLADE else ()
