"""The verdict on a lot: every result against its limit, and what may be decided."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from enum import StrEnum

from aldrip_core.off_type_interval import bounds
from aldrip_core.words_for_dates import day_words
from aldrip_core.working import Given, Origin, Step, Working

SLACK = 1e-9


@dataclass(frozen=True, slots=True)
class Limit:
    """One attribute of a standard: low or high bound in `unit`; required to be tested; fixed by law or not."""

    attribute: str
    words: str
    unit: str
    low: float | None = None
    high: float | None = None
    required: bool = True
    statutory: bool = False
    source: str | None = None

    def asked(self) -> str:
        """“at least 85 %”."""
        parts = []
        if self.low is not None:
            parts.append(f"at least {self.low:g} {self.unit}")
        if self.high is not None:
            parts.append(f"at most {self.high:g} {self.unit}")
        return " and ".join(parts)


def cause_of(limit: Limit) -> str:
    """Why something is graded out that does not keep a limit, as a grower says it.

    >>> [cause_of(Limit("x", *one)) for one in (("not drawn", ""), ("no pest or disease seen", ""), ("hardened", "days", 5),
    ...     ("height", "cm", 6, 15), ("root ball holds together", ""))]
    ['drawn', 'pest or disease seen', 'hardened under 5 days', 'height not 6 to 15 cm', 'root ball holds together: no']
    """
    if limit.low is not None and limit.high is not None:
        return f"{limit.words} not {limit.low:g} to {limit.high:g} {limit.unit}".rstrip()
    if limit.low is not None:
        return f"{limit.words} under {limit.low:g} {limit.unit}".rstrip()
    if limit.high is not None:
        return f"{limit.words} over {limit.high:g} {limit.unit}".rstrip()
    for denied in ("not ", "no "):
        if limit.words.startswith(denied):
            return limit.words.removeprefix(denied)
    return f"{limit.words}: no"


def with_law(own: Sequence[Limit], law: Sequence[Limit]) -> list[Limit]:
    """A house's limits with what the law fixes: what they leave out is put in, what they loosen is as strict as the law.

    >>> [one.low for one in with_law([Limit("germination", "germination", "%", low=70)],
    ...     [Limit("germination", "germination", "%", low=85, statutory=True)])]
    [85]
    """
    fixed = {limit.attribute: limit for limit in law if limit.statutory}
    found = []
    for limit in own:
        base = fixed.pop(limit.attribute, None)
        if base is not None:
            lows = [one for one in (limit.low, base.low) if one is not None]
            highs = [one for one in (limit.high, base.high) if one is not None]
            looser = (max(lows, default=None), min(highs, default=None)) != (limit.low, limit.high)
            limit = replace(
                limit,
                low=max(lows, default=None),
                high=min(highs, default=None),
                required=True,
                statutory=True,
                source=base.source if looser else limit.source,
            )
        found.append(limit)
    return [*found, *fixed.values()]


@dataclass(frozen=True, slots=True)
class Value:
    """What the results of an attribute say: the value, day, expiry, the seeds behind it, whether it must be repeated."""

    value: float
    on: date
    expires: date | None = None
    seeds: int | None = None
    repeat: str = ""
    note: str = ""  # how it was made of several tests


class Outcome(StrEnum):
    """How one attribute stands."""

    PASS = "pass"
    FAIL = "fail"
    MISSING = "missing"
    EXPIRED = "expired"
    REPEAT = "repeat"


@dataclass(frozen=True, slots=True)
class AttributeVerdict:
    """Value, limit and margin (positive: better than asked) in the unit of the limit; interval where seeds were counted."""

    limit: Limit
    outcome: Outcome
    value: float | None = None
    margin: float | None = None
    low: float | None = None
    high: float | None = None
    on: date | None = None
    sentence: str = ""
    note: str = ""


class Proposal(StrEnum):
    """What the results allow."""

    RELEASE = "release"
    HOLD = "hold"
    DOWNGRADE = "downgrade"
    REJECT = "reject"


@dataclass(frozen=True, slots=True)
class Verdict:
    """All attributes, what they allow, and the sentence that says why."""

    attributes: tuple[AttributeVerdict, ...]
    proposal: Proposal
    sentence: str
    downgrade_to: str | None = None
    working: Working = ()

    @property
    def wanting(self) -> tuple[AttributeVerdict, ...]:
        """Required results that are missing, out of date or to be repeated."""
        return tuple(a for a in self.attributes if a.outcome in (Outcome.MISSING, Outcome.EXPIRED, Outcome.REPEAT))

    @property
    def failing(self) -> tuple[AttributeVerdict, ...]:
        return tuple(a for a in self.attributes if a.outcome is Outcome.FAIL)


def judge_attribute(limit: Limit, value: Value | None, today: date) -> AttributeVerdict:
    """One result against its limit. Percentages counted on seeds carry an exact 95 % interval."""
    if value is None:
        outcome = Outcome.MISSING if limit.required else Outcome.PASS
        return AttributeVerdict(limit, outcome, sentence=f"{limit.words} was not tested" if limit.required else "")
    if value.repeat:
        return AttributeVerdict(
            limit,
            Outcome.REPEAT,
            value.value,
            on=value.on,
            sentence=f"{limit.words} must be tested again: {value.repeat}",
        )
    if value.expires is not None and value.expires <= today:
        text = f"the {limit.words} result of {day_words(value.on)} {value.on.year} is too old"
        return AttributeVerdict(limit, Outcome.EXPIRED, value.value, on=value.on, sentence=text)
    margins = []
    if limit.low is not None:
        margins.append(value.value - limit.low)
    if limit.high is not None:
        margins.append(limit.high - value.value)
    margin = min(margins, default=0.0)
    low = high = None
    if value.seeds and limit.unit == "%":
        low, high = (
            100 * x for x in bounds(plants=value.seeds, found=min(value.seeds, round(value.value / 100 * value.seeds)))
        )
    if margin >= -SLACK:
        return AttributeVerdict(limit, Outcome.PASS, value.value, margin, low, high, value.on, note=value.note)
    text = f"{limit.words} is {value.value:g} {limit.unit}, {-margin:.3g} {limit.unit} off the {limit.asked()} asked"
    return AttributeVerdict(limit, Outcome.FAIL, value.value, margin, low, high, value.on, text, value.note)


def judge_lot(
    *,
    limits: Sequence[Limit],
    values: Mapping[str, Value],
    today: date,
    lower_classes: Sequence[tuple[str, Sequence[Limit]]] = (),
) -> Verdict:
    """A lot against its standard; when it fails, the highest lower class whose limits it still meets.

    Nothing is proposed for release while a required result is missing, out of date or to be repeated.
    """
    judged = tuple(judge_attribute(limit, values.get(limit.attribute), today) for limit in limits)
    verdict = Verdict(judged, Proposal.RELEASE, "Every result meets the standard.")
    if verdict.wanting:
        text = "Held: " + "; ".join(a.sentence for a in verdict.wanting) + "."
        proposal, lower, said = Proposal.HOLD, None, text
    elif verdict.failing:
        lower = next((name for name, asked in lower_classes if _meets(asked, values, today)), None)
        proposal = Proposal.DOWNGRADE if lower else Proposal.REJECT
        what = "; ".join(a.sentence for a in verdict.failing)
        said = f"{what[:1].upper()}{what[1:]}." + (f" It would still meet {lower}." if lower else "")
    else:
        proposal, lower, said = Proposal.RELEASE, None, verdict.sentence
    return Verdict(judged, proposal, said, lower, _working(judged))


def _meets(limits: Sequence[Limit], values: Mapping[str, Value], today: date) -> bool:
    return all(judge_attribute(limit, values.get(limit.attribute), today).outcome is Outcome.PASS for limit in limits)


def _working(judged: Sequence[AttributeVerdict]) -> Working:
    return tuple(
        Step(
            f"{one.limit.words[:1].upper()}{one.limit.words[1:]}",
            "margin to the limit",
            (
                Given("result", one.value, one.limit.unit, Origin.RECORDS),
                Given("asked", one.limit.asked(), "", Origin.LIBRARY, one.limit.source),
            ),
            one.margin if one.margin is not None else one.outcome.value,
            one.limit.unit if one.margin is not None else "",
            one.limit.source,
        )
        for one in judged
    )


class Refusal(StrEnum):
    """Why a decision may not be signed."""

    WANTING = "results_wanting"
    STATUTORY = "statutory_limit"
    REASON = "reason_missing"
    CLASS = "class_not_met"
    NOTHING = ""


def may_sign(*, decision: Proposal, verdict: Verdict, reason: str = "", lower_met: bool = False) -> tuple[Refusal, str]:
    """Whether a decision may be signed on this verdict, and the sentence when not.

    Release needs every required result; a limit fixed by law is never overridden, another one only
    with a reason. A downgrade needs a class that is met. Holding and rejecting are always allowed,
    rejecting with a reason.
    """
    if decision is Proposal.HOLD:
        return Refusal.NOTHING, ""
    if decision is Proposal.REJECT:
        return (Refusal.NOTHING, "") if reason.strip() else (Refusal.REASON, "Say why the lot is rejected.")
    if verdict.wanting:
        what = "; ".join(a.sentence for a in verdict.wanting)
        return Refusal.WANTING, f"Cannot be released: {what}. Enter the result first."
    if decision is Proposal.DOWNGRADE:
        return (
            (Refusal.NOTHING, "")
            if lower_met
            else (Refusal.CLASS, "It does not meet that class either. Reject it, or choose another class.")
        )
    law = [a for a in verdict.failing if a.limit.statutory]
    if law:
        what = "; ".join(a.sentence for a in law)
        return Refusal.STATUTORY, f"Cannot be released: {what}, a limit fixed by law. Downgrade or reject the lot."
    if verdict.failing and not reason.strip():
        what = "; ".join(a.sentence for a in verdict.failing)
        return Refusal.REASON, f"{what[:1].upper()}{what[1:]}. To release it all the same, say why."
    return Refusal.NOTHING, ""


def may_leave(verdict: Verdict) -> str:
    """Why a released lot may not be handed over on the day it was judged for; empty where it may.

    A release holds only as long as every required result does and no limit fixed by law is missed; what was signed
    with a reason against the house's own limits stays signed.
    """
    law = [one for one in verdict.failing if one.limit.statutory]
    return "; ".join(one.sentence for one in (*verdict.wanting, *law))
