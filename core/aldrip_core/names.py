"""Names as people write them beside names as they are kept: plurals, word order, a size said along with a form."""

import difflib
import re
import unicodedata
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Generic, TypeVar

T = TypeVar("T")

#: Plurals that no rule makes singular.
IRREGULAR = {
    "leaves": "leaf",
    "tomatoes": "tomato",
    "potatoes": "potato",
    "peas": "pea",
    "roses": "rose",
    "canes": "cane",
}
#: Words of the trade for the same form; common practice, no source.
SAME = {
    "module": "plug",
    "modular": "plug",
    "cell": "plug",
    "flower": "stem",
    "barerooted": "bareroot",
    "chitted": "presprouted",
    "chitting": "presprouted",
    "seedling": "plant",
    "multisown": "multiseeded",
    "multi": "multiseeded",
}
IDLE = {"in", "of", "a", "the", "please", "cut", "grown", "from", "er", "s", "size", "tray", "trays"}
_JOINED = (
    ("bare root", "bareroot"),
    ("pre sprouted", "presprouted"),
    ("multi seeded", "multiseeded"),
    ("multi sown", "multiseeded"),
)
_CM = re.compile(r"(?:ø|⌀)?\s*(\d+(?:[.,]\d+)?)\s*-?\s*cm\b", re.IGNORECASE)
_SEEDS = re.compile(r"(\d+)\s*(?:seeds?|x)\b(?:\s*(?:a|per|/)\s*(?:cell|plug|module))?", re.IGNORECASE)
_PACK = re.compile(r"(\d{1,2})\s*-?\s*packs?\b", re.IGNORECASE)
_CELLS = re.compile(r"(?<![\d.,])(\d{2,5})\s*(?:'?s|er|cells?|holes?|cavities)?(?![\d.,])\b", re.IGNORECASE)


def plain(text: str) -> str:
    """A name without case, accents, hyphens and marks.

    >>> plain("Pré-sprouted  tuber (large)")
    'pre sprouted tuber large'
    """
    bare = "".join(c for c in unicodedata.normalize("NFKD", text.lower()) if not unicodedata.combining(c))
    return " ".join(re.sub(r"[^\w]+|_", " ", bare.replace("'", "").replace("’", "")).split())


def singular(word: str) -> str:
    """One of what a word names many of; a word that is no plural stays.

    >>> [singular(word) for word in ("leeks", "radishes", "pansies", "tomatoes", "asparagus", "leaves", "cress")]
    ['leek', 'radish', 'pansy', 'tomato', 'asparagus', 'leaf', 'cress']
    """
    if word in IRREGULAR:
        return IRREGULAR[word]
    if len(word) > 4 and word.endswith("ie"):
        return word[:-2] + "y"
    if len(word) < 4 or not word.endswith("s") or word.endswith(("ss", "us")):
        return word
    if word.endswith("ies") and len(word) > 4:
        return word[:-3] + "y"
    if word.endswith(("ches", "shes", "xes", "sses", "oes")):
        return word[:-2]
    return word[:-1]


def words_of(text: str) -> tuple[str, ...]:
    """The words of a name, each as one of its kind."""
    return tuple(singular(word) for word in plain(text).split())


class Names(Generic[T]):
    """Things by the names they go by, found again however a person writes them."""

    def __init__(self) -> None:
        self._by: dict[str, dict[str, T | None]] = {"plain": {}, "words": {}, "sorted": {}, "joined": {}}

    def add(self, name: str, thing: T) -> None:
        """Let a thing go by a name; a name written two ways of two things finds neither."""
        for how, key in _keys(name).items():
            known = self._by[how]
            known[key] = thing if known.get(key, thing) == thing else None

    def find(self, text: str) -> T | None:
        """What goes by this name: as it is written, then by its words in one or many, in any order, or run together."""
        for how, key in _keys(text).items():
            found = self._by[how].get(key)
            if key and found is not None:
                return found
        return None

    def near(self, text: str, most: int = 3) -> list[T]:
        """What may be meant: names that are a part of it, of which it is a part, and those spelt nearly so."""
        asked = set(words_of(text))
        known = {key: thing for key, thing in self._by["words"].items() if key and thing is not None}
        inside = sorted((k for k in known if set(k.split()) < asked), key=lambda k: -len(k.split()))
        around = sorted(k for k in known if asked and asked < set(k.split()))
        spelt = difflib.get_close_matches(" ".join(words_of(text)), known, n=most, cutoff=0.78)
        found: list[T] = []
        for key in (*inside, *around, *spelt):
            if known[key] not in found:
                found.append(known[key])
        return found[:most]


def _keys(text: str) -> dict[str, str]:
    words = words_of(text)
    return {"plain": plain(text), "words": " ".join(words), "sorted": " ".join(sorted(words)), "joined": "".join(words)}


@dataclass(frozen=True, slots=True)
class Said:
    """A form as it was said: its words, and the size said with it; None where none was.

    cells: of a tray. width_cm: of a pot [cm]. seeds: in a cell.
    """

    words: frozenset[str]
    cells: int | None = None
    width_cm: float | None = None
    seeds: int | None = None


def read_form(text: str) -> Said:
    """A form with the size in it.

    >>> said = read_form("150s modules, 3 seeds")
    >>> sorted(said.words), said.cells, said.seeds
    (['multiseeded', 'plug'], 150, 3)
    >>> read_form("9cm pots").width_cm
    9.0
    """
    width = cells = seeds = None
    if match := _CM.search(text):
        width, text = float(match[1].replace(",", ".")), _without(text, match)
    if match := _PACK.search(text):
        cells, text = int(match[1]), _without(text, match)
    elif match := _SEEDS.search(text):
        seeds, text = int(match[1]), _without(text, match)
    if cells is None and (match := _CELLS.search(text)):
        cells, text = int(match[1]), _without(text, match)
    bare = plain(text)
    for apart, joined in _JOINED:
        bare = bare.replace(apart, joined)
    words = {SAME.get(singular(word), SAME.get(word, singular(word))) for word in bare.split() if word not in IDLE}
    if seeds is not None and seeds > 1 and words <= {"plug"}:
        words |= {"multiseeded", "plug"}
    return Said(frozenset(words), cells, width, seeds)


def _without(text: str, match: "re.Match[str]") -> str:
    return f"{text[: match.start()]} {text[match.end() :]}"


def find_form(said: Said, known: Iterable[str]) -> str | None:
    """The one known form that is meant: said with all its words, or with some that no other has.

    A size alone means the one form that there is. None where it could be several.
    """
    by_words = {form: read_form(form).words for form in known}
    same = [form for form, words in by_words.items() if words == said.words]
    if same:
        return same[0] if len(same) == 1 else None
    part = [form for form, words in by_words.items() if said.words < words]
    return part[0] if len(part) == 1 else None
