"""Laboratory: results as they were read, judged before they count; the lot's verdict reopens when one is superseded."""

import uuid
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

from django.db import IntegrityError, transaction

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.base.words import day, who
from aldrip.lots.models import Lot, Status, TestResult
from aldrip_core.off_type_interval import bounds
from aldrip_core.replicate_tolerance import replicate_tolerance
from aldrip_core.retests import Pooling, Standing, Test, series, standing
from aldrip_core.whole import half_up

VALID_DAYS = {"germination": 365, "moisture": 120, "purity": 730, "other_seeds": 730}  # common practice, no source
MOISTURE_DUPLICATES = 0.2  # ISTA Rules, moisture by oven: duplicates within 0.2 %, from memory
KINDS = {
    "germination": "germination",
    "purity": "pure seed",
    "moisture": "moisture",
    "other_seeds": "seeds of other species",
}

POOLING = {"germination": Pooling.COMPARED, "moisture": Pooling.NEWEST}  # the others are added up


@dataclass(frozen=True)
class Result:
    """A result as it was read at the bench; only the fields of its kind are filled."""

    kind: str
    tested_on: date
    normal: tuple[int, ...] = ()
    seeds_per_replicate: int = 100
    pure_g: float | None = None
    inert_g: float | None = None
    other_g: float | None = None
    duplicates: tuple[float, ...] = ()
    seeds_found: int | None = None
    sample_g: float | None = None
    certificate: str = ""


@dataclass(frozen=True)
class Read:
    """What a result says: its value in the unit of the standards, seeds behind it, details, why it must be repeated."""

    value: float
    detail: dict[str, Any]
    seeds: int | None = None
    repeat: str = ""


def read_result(result: Result) -> Read:
    """The value of a result, in per cent or per kilo. Raises Refused for what cannot have been read."""
    readers = {"germination": _germination, "purity": _purity, "moisture": _moisture, "other_seeds": _other_seeds}
    reader = readers.get(result.kind)
    if reader is None:
        raise refuse("kind", "not_a_choice", f"There is no test “{result.kind}” here. Known: {', '.join(KINDS)}.")
    return reader(result)


def _germination(result: Result) -> Read:
    judged = replicate_tolerance(normal=result.normal, seeds_per_replicate=result.seeds_per_replicate)
    seeds = len(result.normal) * result.seeds_per_replicate
    repeat = ""
    if not judged.within:
        repeat = f"the replicates differ by {judged.range_percent:g} %, more than the {judged.tolerated_percent} % tolerated at {judged.mean_percent} %"
    low, high = bounds(plants=seeds, found=sum(result.normal))
    detail = {
        "normal": list(result.normal),
        "seeds_per_replicate": result.seeds_per_replicate,
        "range": judged.range_percent,
        "tolerated": judged.tolerated_percent,
        "low": low * 100,
        "high": high * 100,
    }
    return Read(float(judged.mean_percent), detail, seeds, repeat)


def _purity(result: Result) -> Read:
    parts = {"pure_g": result.pure_g, "inert_g": result.inert_g, "other_g": result.other_g}
    for name, value in parts.items():
        if value is None or value < 0:
            raise refuse(name, "missing", "Pure seed, inert matter and other seed are weighed in grams; nothing is 0.")
    total = sum(value or 0 for value in parts.values())
    if total <= 0:
        raise refuse("pure_g", "missing", "The three weights make the working sample; they cannot all be nothing.")
    return Read(half_up((result.pure_g or 0) / total * 100, 1), {**parts, "sample_g": total})


def _moisture(result: Result) -> Read:
    if len(result.duplicates) != 2:
        raise refuse("duplicates", "length", "Moisture by oven is read in two duplicates.")
    if any(not 0 < value < 60 for value in result.duplicates):
        raise refuse("duplicates", "out_of_range", "Moisture lies above 0 and below 60 %.")
    apart = abs(result.duplicates[0] - result.duplicates[1])
    repeat = ""
    if apart > MOISTURE_DUPLICATES + 1e-9:
        repeat = f"the duplicates lie {apart:.2g} % apart, more than {MOISTURE_DUPLICATES:g} %"
    return Read(half_up(sum(result.duplicates) / 2, 1), {"duplicates": list(result.duplicates)}, None, repeat)


def _other_seeds(result: Result) -> Read:
    if result.seeds_found is None or result.seeds_found < 0:
        raise refuse("seeds_found", "missing", "How many seeds of other species were found? Nothing is 0.")
    if not result.sample_g or result.sample_g <= 0:
        raise refuse("sample_g", "missing", "In how many grams were they sought?")
    per_kg = result.seeds_found * 1000 / result.sample_g
    return Read(half_up(per_kg, 1), {"seeds_found": result.seeds_found, "sample_g": result.sample_g})


@act
def record_result(
    ctx: Ctx, lot_id: Ref, result: Result, *, client_uuid: uuid.UUID, replaces: int | None = None, reason: str = ""
) -> TestResult:
    """A result of a lot. One that must be repeated is kept and counts for nothing; a new one reopens the verdict."""
    lot = ctx.get(Lot, lot_id, lock=True)
    done = ctx.rows(TestResult).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    if result.tested_on > ctx.today:
        raise refuse("tested_on", "in_the_future", f"{result.tested_on} is still to come.")
    if result.tested_on < lot.received_on:
        raise refuse(
            "tested_on",
            "too_early",
            f"Lot {lot.code} is there since {lot.received_on}; it cannot have been tested before.",
        )
    read = read_result(result)
    old = ctx.get(TestResult, replaces) if replaces else None
    if old is not None and (old.lot_id != lot.pk or old.kind != result.kind):
        raise refuse("replaces", "other_result", "Only a result of the same kind and lot can be replaced.")
    if old is not None and not reason.strip():
        raise refuse("reason", "missing", "Say why the earlier result is replaced.")
    said_why = reason.strip() or _why_again(lot, result, old)
    share = result.kind == "germination"  # kept as a share since lots could be sown by it
    try:
        with transaction.atomic():
            made = TestResult.objects.create(
                organisation=ctx.organisation,
                by=ctx.user,
                lot=lot,
                kind=result.kind,
                value=read.value / 100 if share else read.value,
                seeds=read.seeds,
                tested_on=result.tested_on,
                happened_at=ctx.at(result.tested_on),
                detail=read.detail,
                repeat=read.repeat,
                certificate=result.certificate[:60],
                client_uuid=client_uuid,
                replaces=old,
                reason=said_why[:300],
                expires_on=result.tested_on + timedelta(days=VALID_DAYS[result.kind]),
            )
    except IntegrityError:  # replaced by somebody else at the same moment, or the same entry arrived twice
        raise refuse("replaces", "replaced", "That result was replaced already. Look at the newest one.") from None
    if share:
        now = standing_of(lot)["germination"]
        if not now.repeat:
            lot.germination, lot.tested_on = now.value / 100, now.on
    if lot.status == Status.RELEASED:
        lot.status = Status.HELD
    lot.save(update_fields=["germination", "tested_on", "status"])
    said = (
        f"must be repeated: {read.repeat}"
        if read.repeat
        else f"{read.value:g}{' %' if result.kind != 'other_seeds' else ' per kg'}"
    )
    ctx.record("lot.result", f"Lot {lot.code}, {KINDS[result.kind]}: {said}.", lot)
    return made


def _why_again(lot: Lot, result: Result, replaced: TestResult | None) -> str:
    """The reason that needs no saying; Refused where a result that still holds is tested again and nobody says why."""
    before = [one for one in lot.test_results.filter(kind=result.kind) if one != replaced]
    now = _standing(result.kind, before)
    if now is None or replaced is not None or POOLING.get(result.kind) is Pooling.NEWEST:
        return ""
    tests = [_test(one) for one in before]
    again = Test(max(one.key for one in tests) + 1, 0.0, result.tested_on)
    together = series([*tests, again])  # whichever was read first: one that is entered late is a test more as well
    if again not in together or len(together) == 1:
        return ""  # what was found before holds no more
    if now.repeat:
        return f"tested again because {now.repeat}"
    compared = POOLING.get(result.kind) is Pooling.COMPARED
    until = f" and holds until {day(now.expires, year=True)}" if now.expires else ""
    raise refuse(
        "reason",
        "missing",
        f"{KINDS[result.kind].capitalize()} was tested on {day(now.on, year=True)}{until}: {now.value:g}. Say why it is tested again; "
        f"{'the results are compared, and those that agree are averaged' if compared else 'the samples are added up as one'}.",
    )


def _test(one: TestResult) -> Test:
    weight: float | None = one.seeds
    if one.kind in ("purity", "other_seeds"):
        weight = one.detail.get("sample_g")
    value = one.value
    if one.kind == "germination":
        counted = one.detail.get("normal")
        value = sum(counted) / one.seeds * 100 if counted and one.seeds else one.value * 100
    elif one.kind == "other_seeds" and one.detail.get("sample_g"):
        value = one.detail["seeds_found"] * 1000 / one.detail["sample_g"]
    elif one.kind == "purity" and one.detail.get("sample_g"):
        value = (one.detail["pure_g"] or 0) / one.detail["sample_g"] * 100
    return Test(one.pk, value, one.tested_on, weight, one.expires_on, one.repeat)


def _standing(kind: str, results: Iterable[TestResult]) -> Standing | None:
    found = standing([_test(one) for one in results], POOLING.get(kind, Pooling.ADDED))
    if found is None or len(found.used) > 1:
        return found
    [only] = [one for one in results if one.pk == found.used[0]]  # as it was rounded when it was read
    return replace(found, value=only.value * 100 if kind == "germination" else only.value)


def standing_among(results: Iterable[TestResult]) -> dict[str, Standing]:
    """What the results of one lot say together, by kind; those that were corrected say nothing."""
    every = list(results)
    corrected = {one.replaces_id for one in every if one.replaces_id}
    by_kind: dict[str, list[TestResult]] = {}
    for one in every:
        if one.pk not in corrected:
            by_kind.setdefault(one.kind, []).append(one)
    found = {kind: _standing(kind, rows) for kind, rows in by_kind.items()}
    return {kind: one for kind, one in found.items() if one is not None}


def tests_told(lot: Lot) -> list[dict[str, Any]]:
    """Every test of a lot as a paper tells it: what was found, when, by whom, and what became of it."""
    results = list(lot.test_results.select_related("by").order_by("tested_on", "id"))
    used = {pk for one in standing_among(results).values() for pk in one.used}
    corrected = {one.replaces_id: one for one in results if one.replaces_id}
    told = []
    for one in results:
        found = f"{one.value:g} per kg" if one.kind == "other_seeds" else f"{_test(one).value:.3g} %"
        if one.pk in corrected:
            said = f"corrected: {corrected[one.pk].reason}"
        elif one.repeat:
            said = f"counts for nothing: {one.repeat}"
        else:
            said = one.reason if one.pk in used else f"not in the result{'; ' if one.reason else ''}{one.reason}"
        told.append(
            {
                "words": KINDS.get(one.kind, one.kind),
                "found": found,
                "on": one.tested_on.isoformat(),
                "by": who(one.by, "somebody who has left"),
                "certificate": one.certificate,
                "said": said,
            }
        )
    return told


def standing_of(lot: Lot) -> Mapping[str, Standing]:
    """What holds of a lot, by kind. One query."""
    return standing_among(lot.test_results.all())
