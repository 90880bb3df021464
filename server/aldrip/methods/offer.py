"""What a new house may take: what it raises, with the crops that ship for it and the places that they ask for."""

from dataclasses import dataclass

from aldrip.accounts.context import Ctx, act
from aldrip.accounts.models import Organisation
from aldrip.base.errors import refuse
from aldrip.methods.models import Crop, Method
from aldrip.methods.resolver import Library

#: What a nursery says it raises, by the forms in which it is promised.
RAISED: dict[str, tuple[str, ...]] = {
    "Plugs and pricked-on plants": ("plug", "multi-seeded plug", "pricked-on plant", "mat"),
    "Pots": ("pot",),
    "Bare-root plants, crowns, canes": ("bare-root plant", "crown", "cane", "runner plant"),
    "Rooted cuttings and slips": ("rooted cutting", "rooted apical cutting", "slip"),
    "Grafted plants": ("grafted plug",),
    "Setts and pre-sprouted tubers": ("sett", "pre-sprouted tuber"),
    "Cut stems and leaf": ("stem", "leaf"),
    "Crops sown in place": ("thinned stand",),
    "Seed": ("seed",),
}


@dataclass(frozen=True)
class Offer:
    """One thing that may be raised: its crops (slug, name) and the kinds of place that its methods stand in."""

    words: str
    crops: tuple[tuple[str, str], ...]
    kinds: tuple[str, ...]


def offers() -> list[Offer]:
    """What ships for each thing that a nursery may raise."""
    rows = Method.objects.filter(organisation=None).values_list(
        "form", "crop__slug", "crop__name", "stages__place_kind", "default"
    )
    found = []
    for words, forms in RAISED.items():
        these = [row for row in rows if row[0] in forms]
        crops = sorted({(slug, name) for _, slug, name, _, _ in these}, key=lambda crop: crop[1].casefold())
        kinds = {kind for _, _, _, kind, usual in these if kind and usual}
        found.append(Offer(words, tuple(crops), tuple(sorted(kinds))))
    return found


@act
def raise_crop(ctx: Ctx, slug: str, raised: bool) -> None:
    """Count a crop among those that the house raises, or no longer; its methods stand first in Methods."""
    if not Library(ctx).rows(Crop).filter(slug=slug).exists():
        raise refuse("crop", "not_there", "There is no such crop in the library.")
    house = Organisation.objects.select_for_update().get(pk=ctx.organisation.pk)
    house.raises = sorted({*house.raises, slug} if raised else set(house.raises) - {slug})
    house.save(update_fields=["raises"])
    ctx.organisation.raises = house.raises
    ctx.record("library.raise", f"{'Raises' if raised else 'No longer raises'} {slug.replace('-', ' ')}.")
