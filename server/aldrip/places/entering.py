"""Who may go into a place: where plants must stay clean not everybody does."""

import re

from aldrip.accounts.context import Ctx
from aldrip.base.errors import refuse
from aldrip.base.words import together, who
from aldrip.places.models import Place

MOST = 40
LONGEST = 60


def read_names(text: str) -> list[str]:
    """Names as typed, one after another with commas; each once. Raises Refused."""
    found: dict[str, str] = {}
    for one in re.split(r"\s*[,;\n]\s*", text.strip()):
        if one:
            found.setdefault(one.casefold(), one)
    if len(found) > MOST:
        raise refuse(
            "enters", "too_many", f"{len(found)} names are more than {MOST}. Leave it empty where everybody may."
        )
    long = next((one for one in found.values() if len(one) > LONGEST), None)
    if long is not None:
        raise refuse(
            "enters", "too_long", f"“{long[:20]} …” is no name: {LONGEST} letters at most, commas between names."
        )
    return list(found.values())


def entering_words(place: Place) -> str:
    """Who goes in, in a sentence; nothing where everybody may."""
    if not place.enters:
        return ""
    return f"Only {together(place.enters)} {'enters' if len(place.enters) == 1 else 'enter'}"


def doubt_entry(ctx: Ctx, place: Place | None, field: str) -> None:
    """Whoever records work in a place that is not for all, and is not among them, is asked about."""
    told = None
    if place is not None and place.enters:
        known = {who(ctx.user).casefold(), ctx.user.username.casefold() if ctx.user else ""}
        if not known & {one.casefold() for one in place.enters}:
            told = f"{entering_words(place)} {place.name}; you are not among them. Did one of them do it?"
    ctx.doubt("entry", field, told)
