"""The house's own words in orders: what they mean is settled once and holds from then on."""

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.methods.models import Crop, Line, Method
from aldrip.methods.resolver import Library
from aldrip.orders.models import OwnWord
from aldrip_core.names import plain

#: What can be settled, and whether it hangs on a crop.
COLUMNS = {"crop": False, "form": True, "cultivar": True}
LONGEST = 120


class OwnWords:
    """The settled words of a house, asked for once."""

    def __init__(self, ctx: Ctx) -> None:
        self._known = {
            (column, said, crop): means
            for column, said, crop, means in ctx.rows(OwnWord).values_list("column", "said", "crop", "means")
        }

    def meant(self, column: str, text: str, crop: str = "") -> str:
        """What words mean here; empty where nobody settled it."""
        return self._known.get((column, plain(text), crop), "")


@act
def settle_word(ctx: Ctx, column: str, said: str, means: str, crop: str = "") -> OwnWord:
    """Settle what words in a column mean from now on. Raises Refused where it means nothing that there is."""
    library, words = Library(ctx), plain(said)
    if column not in COLUMNS:
        raise refuse("column", "not_a_choice", f"What “{column}” says is not settled by words.")
    if not words or len(words) > LONGEST:
        raise refuse("said", "unreadable", f"Which words? 1 to {LONGEST} characters.")
    hangs_on = crop if COLUMNS[column] else ""
    if column == "crop":
        there = library.rows(Crop).filter(slug=means).exists()
    elif column == "cultivar":
        there = library.rows(Line).filter(crop__slug=crop, name=means).exists()
    else:
        methods = library.rows(Method).filter(crop__slug=crop)
        there = methods.filter(form=means).exists() or methods.filter(stages__product=means).exists()
    if not there:
        raise refuse("means", "not_there", f"There is no “{means}” that it could mean.")
    word, _ = OwnWord.objects.update_or_create(
        organisation=ctx.organisation, column=column, said=words, crop=hangs_on, defaults={"means": means}
    )
    ctx.record("orders.settle_word", f"Settled that “{said}” means {means}.", word)
    return word


@act
def forget_word(ctx: Ctx, word_id: Ref) -> None:
    """Let words mean nothing of their own again. What was taken in stays."""
    word = ctx.get(OwnWord, word_id, lock=True)
    ctx.record("orders.forget_word", f"Forgot that “{word.said}” means {word.means}.", word)
    word.delete()
