"""What stands against a plan: codes with their data; the sentence is made last."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any

from aldrip_core.place_kinds import PLACE_KINDS


@dataclass(frozen=True, slots=True)
class Problem:
    """Something that stands against a plan. `data`: plain values, dates as ISO text."""

    code: str
    data: Mapping[str, Any]

    def plain(self) -> dict[str, Any]:
        """As it is stored."""
        return {"code": self.code, **self.data}


def read(stored: Sequence[Mapping[str, Any]]) -> tuple[Problem, ...]:
    """Problems as they were stored."""
    return tuple(Problem(one["code"], {k: v for k, v in one.items() if k != "code"}) for one in stored)


def _day(text: str) -> str:
    day = date.fromisoformat(text)
    return f"{day:%a} {day.day} {day:%b}, week {day.isocalendar().week}"


def _days(many: float) -> str:
    return f"{many:g} {'day' if many == 1 else 'days'}"


def _kind(key: str) -> str:
    return PLACE_KINDS.get(key, key).lower()


def _seed(data: Mapping[str, Any]) -> str:
    """A little seed is counted, much of it is weighed."""
    grams, seeds = float(data["grams"]), data.get("seeds")
    if grams >= 1 or not seeds:
        return f"{grams:,.1f} g"
    return f"{seeds:,.0f} seeds, {grams:.2g} g"


def _season(data: Mapping[str, Any]) -> str:
    if data["cold"]:
        return (
            f"{data['crop']} is out of its season: “{data['stage']}” is {data['asks']}, and {data['cold']} of its "
            f"{_days(data['of'])} are likely to be colder."
        )
    return f"{data['crop']} is out of its season: “{data['stage']}” {data['asks']}, and it is planned for {_day(data['on'])}."


def hopeless_season(problem: Mapping[str, Any]) -> bool:
    """Whether a stored problem says that nothing can be expected: begun out of season, or a fifth of its days too cold."""
    return problem["code"] == "out_of_season" and (not problem["cold"] or problem["cold"] > 0.2 * problem["of"])


SENTENCES: dict[str, Callable[[Mapping[str, Any]], str]] = {
    "out_of_season": _season,
    "no_place": lambda d: f"“{d['stage']}” asks for a place of kind {_kind(d['kind'])}, and there is none.",
    "rests": lambda d: (
        f"{d['crop']} rests above {d['ceiling_c']:g} °C: {d['days']} of the {d['of']} days of “{d['stage']}” are likely to pass it."
    ),
    "late": lambda d: f"Cannot be met as asked: the earliest day is {_day(d['ready_on'])}, {d['days']} days late.",
    "overdue": lambda d: (
        f"“{d['stage']}” was due on {_day(d['due'])} and is not recorded: {d['days']} {'day' if d['days'] == 1 else 'days'} behind. "
        f"Done today, it is ready about {_day(d['ready_on'])}."
    ),
    "batch_late": lambda d: (
        f"Batch {d['batch']} will be ready {d['days']} {'day' if d['days'] == 1 else 'days'} after the window closes."
    ),
    "short": lambda d: f"About {d['expected']} will be there of {d['needed']}.",
    "aged": lambda d: (
        f"Batch {d['batch']} is ready on {_day(d['ready_on'])}, {_days(d['days'])} before it is wanted. Ready ones may wait {_days(d['hold'])}: "
        "sow anew, or agree an earlier day."
    ),
    "waits_long": lambda d: (
        f"Batch {d['batch']} is ready on {_day(d['ready_on'])}, {_days(d['days'])} before it is wanted; its method does not say how long ready ones may wait."
    ),
    "aside_gone": lambda d: (
        f"Lot {d['lot']}, set aside for this, {d['why']}: {d['missing']} of it cannot be counted on."
    ),
    "no_seed": lambda d: f"No seed lot of {d['crop']}: receive or buy {_seed(d)}.",
    "weak_seed": lambda d: (
        f"Lot {d['lot']} germinates {d['has'] * 100:.0f} %, under the {d['least'] * 100:.0f} % that {d['crop'].lower()} should: "
        "it takes more trays and comes unevenly. Choose another lot, or test this one again."
    ),
    "short_seed": lambda d: f"Lot {d['lot']} is short by {d['grams']:,.1f} g with what is planned.",
    "short_cuttings": lambda d: (
        f"Batch {d['batch']} is to be begun in week {d['week']}, when the mothers give {d['short']:,.0f} cuttings less than are to be stuck."
    ),
    "refused": lambda d: str(d["words"]),
    "barred": lambda d: f"Nothing of batch {d['batch']} may be delivered as it stands: {d['why']}.",
    "other_class": lambda d: f"Batch {d['batch']} is grown as {d['has']}; {d['asked']} is asked.",
}


def words(problem: Problem) -> str:
    """A problem as a sentence.

    >>> words(Problem("no_place", {"stage": "Rooted", "kind": "hotbed"}))
    '“Rooted” asks for a place of kind hot bed, and there is none.'
    """
    return SENTENCES[problem.code](problem.data)


def sentence(problems: Sequence[Problem]) -> str:
    """All of them, one after the other; stages that ask for the same kind of place together.

    >>> sentence([Problem("no_place", {"stage": stage, "kind": "bed"}) for stage in ("Emerged", "Grown on")])
    '“Emerged” and “Grown on” ask for a place of kind nursery bed, and there is none.'
    """
    told, homeless = [], dict[str, list[str]]()
    for problem in problems:
        if problem.code == "no_place":
            homeless.setdefault(str(problem.data["kind"]), []).append(f"“{problem.data['stage']}”")
        else:
            told.append(words(problem))
    for kind, named_stages in homeless.items():
        *most, last = named_stages
        named, ask = (f"{', '.join(most)} and {last}", "ask") if most else (last, "asks")
        told.append(f"{named} {ask} for a place of kind {_kind(kind)}, and there is none.")
    return " ".join(told)
