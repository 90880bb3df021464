"""What waits for somebody to decide: a code with its data, told by the room that owns it; the sentence is made last."""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from datetime import date
from typing import Any

from aldrip.accounts.context import Ctx


@dataclass(frozen=True)
class Decision:
    """Something that waits in a room, until a day where there is one. `about`: the code or number of what it is about."""

    room: str
    code: str
    about: str
    data: Mapping[str, Any]
    link: str
    by: date | None = None

    @property
    def words(self) -> "Words":
        return WORDS[self.code](self.data)

    def plain(self) -> dict[str, Any]:
        """As it is shown: the object and its words."""
        words = self.words
        return {
            "room": self.room,
            "code": self.code,
            "about": self.about,
            "by": self.by,
            "link": self.link,
            "title": words.title,
            "sentence": words.sentence,
            "action": words.action,
            "effect": words.effect,
        }


@dataclass(frozen=True)
class Words:
    """A decision for people: what in two words, the whole sentence, what the button says, and what hangs on it."""

    title: str
    sentence: str
    action: str
    effect: str = ""


@dataclass
class Look:
    """One look at everything that waits; `once` keeps what several rooms read, so that it is read once."""

    ctx: Ctx
    once: dict[str, Any] = field(default_factory=dict)


Told = Callable[[Mapping[str, Any]], Words]
Source = Callable[[Look], Iterable[Decision]]
WORDS: dict[str, Told] = {}
SOURCES: dict[str, Source] = {}


def asks(**words: Told) -> Callable[[Source], Source]:
    """Let a room ask: over a function that finds decisions, with the words of each of its codes."""

    def named(source: Source) -> Source:
        SOURCES[f"{source.__module__}.{source.__name__}"] = source
        WORDS.update(words)
        return source

    return named


def waiting(look: Look) -> list[Decision]:
    """Everything that waits for a decision, the most urgent first."""
    found = [one for source in SOURCES.values() for one in source(look)]
    return sorted(found, key=lambda one: (one.by or date.max, one.room, one.words.title))
