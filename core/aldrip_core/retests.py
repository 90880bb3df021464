"""What several tests of one lot say together: a test that is made again stands beside the first, not over it."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from enum import StrEnum
from itertools import combinations

from aldrip_core.replicate_tolerance import half_up
from aldrip_core.tables.retest_tolerance import SOURCE, TOLERATED
from aldrip_core.whole import half_up as to_digits
from aldrip_core.words_for_dates import day_words
from aldrip_core.working import Given, Origin, Step, Working, computed


class Pooling(StrEnum):
    """How the tests of an attribute make one value."""

    COMPARED = "compared"  # germination: those that agree by the published tolerance are averaged
    ADDED = "added"  # purity and other seeds: the samples are added up as one
    NEWEST = "newest"  # moisture: seed takes it up and gives it off; only tests of one day are averaged


@dataclass(frozen=True, slots=True)
class Test:
    """One test: `value` [% or per kg] with the seeds or grams behind it, its day, until when it holds.

    `repeat`: why it counts for nothing and must be made again.
    """

    key: int
    value: float
    on: date
    weight: float | None = None
    expires: date | None = None
    repeat: str = ""


@dataclass(frozen=True, slots=True)
class Standing:
    """What holds: the value, the day and end of the newest test in it, the seeds behind it.

    `repeat`: why another test is called for; `used` and `aside`: keys of tests that are in it, and of those that are
    not. `note` says how the value was made where more than one test stands behind it.
    """

    value: float
    on: date
    expires: date | None
    weight: float | None
    repeat: str
    used: tuple[int, ...]
    aside: tuple[int, ...] = ()
    note: str = ""
    working: Working = ()


def tolerated_between(one: float, other: float) -> int:
    """Largest difference [whole %] at which two germination tests of 400 seeds agree. Source: `tables.retest_tolerance`.

    >>> tolerated_between(84, 87), tolerated_between(99, 97)
    (5, 2)
    """
    return TOLERATED[min(100, max(0, half_up((one + other) / 2)))]


def agree(one: float, other: float) -> bool:
    """Whether two germination tests, in whole per cent, agree.

    >>> agree(84, 87), agree(80, 88)
    (True, False)
    """
    return abs(half_up(one) - half_up(other)) <= tolerated_between(half_up(one), half_up(other))


def series(tests: Sequence[Test]) -> tuple[Test, ...]:
    """The tests that are looked at together: the newest, and those before it without a time in which none held.

    Drying and storing begin no new series: what was found before is not undone by it. Cleaning makes another lot.
    """
    found: list[Test] = []
    for test in sorted(tests, key=lambda one: (one.on, one.key)):
        if all(one.expires is not None and one.expires <= test.on for one in found):
            found = []
        found.append(test)
    return tuple(found)


def standing(tests: Sequence[Test], pooling: Pooling) -> Standing | None:
    """What the tests of an attribute say together; None without any.

    The newest test that must be repeated leaves nothing standing. Germination: the largest number of tests that agree
    with each other, more than half of them all, is averaged over its seeds; where there is none, another is called for.
    """
    asked = series(tests)
    if not asked:
        return None
    last = asked[-1]
    if last.repeat:
        return Standing(last.value, last.on, last.expires, last.weight, last.repeat, (last.key,))
    valid = tuple(one for one in asked if not one.repeat)
    if pooling is Pooling.NEWEST:
        return _mean(tuple(one for one in valid if one.on == last.on), (), digits=1)
    if pooling is Pooling.ADDED:
        return _mean(valid, (), digits=1)
    chosen = _agreeing(valid)
    if chosen is None:
        return Standing(
            last.value, last.on, last.expires, last.weight, _contradiction(valid), tuple(o.key for o in valid)
        )
    return _mean(chosen, tuple(one for one in valid if one not in chosen), digits=0)


def _agreeing(tests: tuple[Test, ...]) -> tuple[Test, ...] | None:
    """The largest number of tests that agree pair by pair; None where they are not more than half of them.

    Tolerance falls by less than what a pair draws closer, so those that agree stand side by side in order of value.
    Of two groups of one size the lower one: no seed is better for being tested more often.
    """
    ordered = sorted(tests, key=lambda one: one.value)
    for size in range(len(tests), len(tests) // 2, -1):
        for start in range(len(tests) - size + 1):
            group = ordered[start : start + size]
            if all(agree(a.value, b.value) for a, b in combinations(group, 2)):
                return tuple(one for one in tests if one in group)
    return None


def _contradiction(tests: tuple[Test, ...]) -> str:
    one, other = tests[-2], tests[-1]
    apart = abs(half_up(one.value) - half_up(other.value))
    said = " and ".join(f"{half_up(t.value)} % on {day_words(t.on)}" for t in (one, other))
    most = tolerated_between(half_up(one.value), half_up(other.value))
    return f"{said} lie {apart} % apart, more than the {most} % tolerated between two tests; another one decides"


def _mean(used: tuple[Test, ...], aside: tuple[Test, ...], *, digits: int) -> Standing:
    weighed = all(one.weight for one in used)
    total = sum(one.weight or 0 for one in used) if weighed else float(len(used))
    mean = sum(one.value * ((one.weight or 0) if weighed else 1) for one in used) / total
    last = used[-1]
    value = to_digits(mean, digits) if len(used) > 1 else last.value
    note = ""
    if len(used) > 1:
        note = f"mean of {len(used)} tests: " + ", ".join(f"{one.value:g} on {day_words(one.on)}" for one in used)
    if aside:
        note += ("; " if note else "") + "not in it: " + ", ".join(f"{o.value:g} on {day_words(o.on)}" for o in aside)
    steps: Working = ()
    if note:
        given = tuple(Given(f"test of {day_words(one.on)}", one.value, "", Origin.RECORDS) for one in used)
        steps = (
            Step(
                "Mean of the tests", "by the seeds or grams in each", given, value, "", SOURCE if not digits else None
            ),
        )
        if aside:
            out = tuple(computed(f"test of {day_words(one.on)}", one.value) for one in aside)
            steps += (Step("Set aside", "further apart than tolerated", out, len(aside), "", SOURCE),)
    return Standing(
        value,
        last.on,
        last.expires,
        total if weighed else None,
        "",
        tuple(one.key for one in used),
        tuple(one.key for one in aside),
        note,
        steps,
    )
