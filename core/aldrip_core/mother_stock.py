"""Mother plants that stand: what they will give by week, against what is to be stuck, and what helps where it is too little."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from itertools import accumulate
from math import ceil

from aldrip_core.refusal import refuse
from aldrip_core.working import Given, Origin, Step, Working, computed

LONGEST_LIFE = 520  # weeks
MOST_SHOOTS = 1000.0  # a mother and week
WAITS_H = 2.0  # cut shoots wait no longer in water; common practice, no source
BOX_H = 24.0  # young plants stand in a closed box no longer; common practice, no source
WAITS_AT_MOST = 12  # weeks by which a sticking is offered to be later


@dataclass(frozen=True, slots=True)
class Habit:
    """How a kind of mother gives: shoots by week of her life from planting, none before the first cut or after her life."""

    shoots_by_age_weeks: tuple[float, ...]
    first_cut_week: int
    life_weeks: int

    def __post_init__(self) -> None:
        if not 1 <= self.life_weeks <= LONGEST_LIFE:
            raise refuse("life_weeks", "out_of_range", f"A mother stands for 1 to {LONGEST_LIFE} weeks.")
        if not 0 <= self.first_cut_week < self.life_weeks:
            told = f"The first cut is in a week of her life, 0 to {self.life_weeks - 1}."
            raise refuse("first_cut_week", "out_of_range", told)
        if any(not 0 <= one <= MOST_SHOOTS for one in self.shoots_by_age_weeks):
            raise refuse("shoots", "out_of_range", f"Shoots of a mother and week: 0 to {MOST_SHOOTS:g}.")
        if not any(self.shoots_by_age_weeks[self.first_cut_week : self.life_weeks]):
            told = f"No shoots from week {self.first_cut_week} to {self.life_weeks - 1} of her life: she would never be cut."
            raise refuse("shoots", "never_cut", told)

    def shoots(self, age_weeks: int) -> float:
        """Shoots to cut of one mother in a week of her life."""
        if not self.first_cut_week <= age_weeks < self.life_weeks or age_weeks >= len(self.shoots_by_age_weeks):
            return 0.0
        return self.shoots_by_age_weeks[age_weeks]

    def shoots_in(self, week: int, pace: Sequence[float] = ()) -> float:
        """Shoots of one mother in a week after planting, who grew at a pace [0-1] in each week; 1 where none is named.

        She goes through the shoots of her life as she grows, so that all of them come later; her life ends by the calendar.

        >>> habit = Habit((0, 4, 6), 1, 8)
        >>> [habit.shoots_in(week, (0.5,) * 8) for week in range(5)]
        [0.0, 0.0, 2.0, 2.0, 3.0]
        """
        if not pace:
            return self.shoots(week)
        if not 0 <= week < self.life_weeks:
            return 0.0
        known = (*pace[: week + 1], *(1.0 for _ in range(week + 1 - len(pace))))
        *_, before, after = 0.0, *accumulate(known)
        return self.until(after) - self.until(before)

    def until(self, grown_weeks: float) -> float:
        """Shoots of one mother in all until she has grown for so many weeks."""
        whole = int(grown_weeks)
        return sum(self.shoots(n) for n in range(whole)) + (grown_weeks - whole) * self.shoots(whole)


def age_weeks(planted: date, day: date) -> int:
    """The week of a mother's life on a day: the week in which she was planted is 0, before it she is of none (negative).

    >>> age_weeks(date(2027, 3, 4), date(2027, 3, 8))
    1
    """
    return (day - planted + timedelta(days=planted.weekday() - day.weekday())).days // 7


def in_week(planted: date, week: int) -> date:
    """The Monday of a week of a mother's life.

    >>> in_week(date(2027, 3, 4), 1)
    datetime.date(2027, 3, 8)
    """
    return planted + timedelta(weeks=week, days=-planted.weekday())


@dataclass(frozen=True, slots=True)
class Stand:
    """Mothers of one planting; `until`: the day from which they give nothing any more, where it is known.

    pace: how fast they grow week by week from the one of planting [0-1], where they slow; see `Habit.shoots_in`.
    """

    mothers: float
    planted: date
    habit: Habit
    until: date | None = None
    pace: tuple[float, ...] = ()


def given_by_week(stands: Sequence[Stand], *, first: date, weeks: int) -> tuple[float, ...]:
    """Cuttings that the stands give in each of so many weeks, from the Monday `first` on. Source: arithmetic.

    >>> habit = Habit((0, 0, 1, 2, 2), 2, 5)
    >>> given_by_week([Stand(10, date(2027, 3, 1), habit)], first=date(2027, 3, 8), weeks=5)
    (0.0, 10.0, 20.0, 20.0, 0.0)
    """
    found = [0.0] * weeks
    for stand in stands:
        for week in range(weeks):
            monday = first + timedelta(weeks=week)
            if stand.until is not None and monday >= stand.until:
                break
            age = age_weeks(stand.planted, monday)
            if age >= 0:
                found[week] += stand.mothers * stand.habit.shoots_in(age, stand.pace)
    return tuple(found)


def as_they_stood(stand: Stand, changes: Sequence[tuple[date, float]]) -> tuple[Stand, ...]:
    """The mothers that stand today, with those that went until they did, and without those that came until they had.

    changes: by day, how many came (or went, below zero) since the planting; what is dated no later than that is the planting.

    >>> stand = Stand(30, date(2027, 3, 1), Habit((1, 1, 1), 0, 3))
    >>> stood = as_they_stood(stand, [(date(2027, 3, 1), 40), (date(2027, 3, 9), -10)])
    >>> given_by_week(stood, first=date(2027, 3, 1), weeks=3)
    (40.0, 40.0, 30.0)
    """
    later = [(day, many) for day, many in changes if day > stand.planted]
    ends = stand.until or date.max
    return stand, *(replace(stand, mothers=-many, until=min(day, ends)) for day, many in later)


@dataclass(frozen=True, slots=True)
class Remedy:
    """What helps where cuttings are short: `buy`, `plant` or `later`, how many (or weeks), by when, and how much of it is met."""

    code: str
    many: int
    by: date
    met: float
    working: Working


@dataclass(frozen=True, slots=True)
class Outlook:
    """By week: given, wanted and short; what is cut in a week cannot wait for the next. Remedies where anything is short."""

    given: tuple[float, ...]
    wanted: tuple[float, ...]
    short: tuple[float, ...]
    remedies: tuple[Remedy, ...]


def outlook(
    given: Sequence[float],
    wanted: Sequence[float],
    *,
    first: date,
    habit: Habit | None,
    pace: Sequence[float] = (),
) -> Outlook:
    """What is given against what is wanted by week, both from the Monday `first`; `habit`, `pace`: of mothers planted now.

    Remedies: cuttings bought for the weeks that are short; plantlets planted in the first week, as many as the worst
    week asks of those they can still serve; sticking put off until what is given has made up for it. Source: arithmetic.
    """
    short = tuple(max(0.0, need - has) for has, need in zip(given, wanted, strict=True))
    remedies: list[Remedy] = []
    missing = sum(short)
    if missing > 0:
        at = next(week for week, many in enumerate(short) if many > 0)
        day = first + timedelta(weeks=at)
        step = Step(
            "Short", "wanted - given, week by week", (computed("weeks", sum(one > 0 for one in short)),), missing
        )
        remedies.append(Remedy("buy", ceil(missing - 1e-9), day, missing, (step,)))
        for found in (_planted(short, first, habit, pace) if habit else None, _later(given, wanted, day, missing)):
            if found is not None:
                remedies.append(found)
    return Outlook(tuple(given), tuple(wanted), short, tuple(remedies))


def _planted(short: Sequence[float], first: date, habit: Habit, pace: Sequence[float]) -> Remedy | None:
    """Plantlets planted in the first week that cover every short week in which they can be cut."""
    gives = [habit.shoots_in(week, pace) for week in range(len(short))]
    served = {week: many for week, many in enumerate(short) if many > 0 and gives[week] > 0}
    if not served:
        return None
    worst = max(served, key=lambda week: served[week] / gives[week])
    many = ceil(served[worst] / gives[worst] - 1e-9)
    given = (Given("short then", served[worst]), Given("shoots of one", gives[worst], origin=Origin.RECORDS))
    step = Step(
        f"Plantlets for week {worst + 1} from now", "short ÷ shoots of a mother of that age, whole", given, many
    )
    return Remedy("plant", many, first, sum(served.values()), (step,))


def _later(given: Sequence[float], wanted: Sequence[float], by: date, missing: float) -> Remedy | None:
    """By how many weeks the sticking that is short must wait until what is given has made up for it."""
    queue: list[tuple[int, float]] = []
    most, left = 0, 0.0
    for week, (has, need) in enumerate(zip(given, wanted, strict=True)):
        queue.append((week, need))
        left = has
        while queue and left > 1e-9:
            since, many = queue[0]
            part = min(many, left)
            left -= part
            if part < many - 1e-9:
                queue[0] = (since, many - part)
                break
            queue.pop(0)
            most = max(most, week - since)
    if any(many > 1e-9 for _, many in queue) or not 0 < most <= WAITS_AT_MOST:
        return None
    step = Step(
        "Weeks", "the longest that anything waits, first wanted first stuck", (computed("short", missing),), most
    )
    return Remedy("later", most, by, missing, (step,))


def grows(*, first_cut_week: int, first: float, a_week: float, most: float, life_weeks: int) -> tuple[float, ...]:
    """Shoots by week of life of a mother that gives `first` at her first cut and a share `a_week` more each week, up to `most`.

    Source: the growers' 30 to 70 cuttings a mother in 4 to 5 months come from one shoot, 15 % more a week (common practice,
    no source; fitted).

    >>> [round(one, 2) for one in grows(first_cut_week=2, first=1, a_week=0.5, most=2, life_weeks=6)]
    [0.0, 0.0, 1.0, 1.5, 2.0, 2.0]
    """
    if first <= 0 or most < first or not 0 <= a_week <= 2:
        raise refuse(
            "shoots", "out_of_range", "Shoots begin above nothing, grow by 0 to 200 % a week, and end no lower."
        )
    ages = range(life_weeks)
    return tuple(
        float(min(most, first * (1 + a_week) ** (n - first_cut_week))) if n >= first_cut_week else 0.0 for n in ages
    )
