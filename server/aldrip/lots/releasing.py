"""Judge a lot against its standard and sign what follows; record official seals; no way round a missing result."""

import uuid
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import date
from typing import Any

from django.db import IntegrityError, transaction
from django.db.models import F, Q

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.lots.laboratory import standing_among, standing_of
from aldrip.lots.models import Lot, Seal, Status, TestResult, Verdict
from aldrip.lots.processing import own_lot
from aldrip.methods.models import Standard
from aldrip.methods.services import class_scheme
from aldrip_core import verdict as core
from aldrip_core.retests import Standing

#: Rooms above say what bars own seed beside its results: its field.
also_wanting: list[Callable[[Ctx, Lot], Sequence[str]]] = []
RELEASING = (core.Proposal.RELEASE.value, core.Proposal.DOWNGRADE.value)
JUDGED = (Status.CLEAN, Status.HELD, Status.RELEASED)


def limits_of(standard: Standard) -> list[core.Limit]:
    """A standard's limits in core's terms."""
    return [
        core.Limit(
            limit["attribute"],
            limit["words"],
            limit.get("unit", ""),
            limit.get("low"),
            limit.get("high"),
            limit.get("required", True),
            limit.get("statutory", False),
            limit.get("source"),
        )
        for limit in standard.limits
    ]


class SeedStandards:
    """Seed standards by crop and class, own ones before those that ship; the law's limits hold in either. One query."""

    def __init__(self, ctx: Ctx, crop: str | None = None) -> None:
        rows = Standard.objects.filter(
            Q(organisation=ctx.organisation) | Q(organisation=None), kind="seed", customer=""
        )
        if crop is not None:
            rows = rows.filter(crop__slug=crop)
        ordered = list(rows.select_related("crop").order_by(F("organisation_id").asc(nulls_last=True), "id"))
        hidden = {one.slug for one in ordered if one.organisation_id is not None}
        self.found: dict[tuple[str, str], Standard] = {}
        self.law: dict[tuple[str, str], list[core.Limit]] = {}
        for one in ordered:
            key = (one.crop.slug if one.crop else "", one.seed_class)
            shipped = one.organisation_id is None
            if shipped:
                self.law.setdefault(key, []).extend(limits_of(one))
            if not one.retired and not (shipped and one.slug in hidden):
                self.found.setdefault(key, one)

    def of(self, crop: str, seed_class: str) -> Standard | None:
        """The standard that counts for a class."""
        return self.found.get((crop, seed_class))

    def limits(self, standard: Standard, crop: str) -> list[core.Limit]:
        """Its limits, none looser than the law's."""
        return core.with_law(limits_of(standard), self.law.get((crop, standard.seed_class), ()))


def values_of(found: Mapping[str, Standing]) -> dict[str, core.Value]:
    """What the results of a lot say together, in the units of the standards."""
    return {
        kind: core.Value(
            one.value,
            one.on,
            one.expires,
            round(one.weight) if kind == "germination" and one.weight else None,
            one.repeat,
            one.note,
        )
        for kind, one in found.items()
    }


def class_names(ctx: Ctx) -> dict[str, str]:
    """Names of the classes of the house's scheme."""
    scheme = class_scheme(ctx)
    return scheme.names() if scheme else {}


def label_facts(ctx: Ctx, lot: Lot) -> dict[str, Any]:
    """What the supplier's own label says. Raises Refused for a lot that is not released."""
    if lot.status != Status.RELEASED:
        raise refuse("lot_id", "not_released", f"Lot {lot.code} is not released; it gets no label.")
    if lot.on_hold:
        raise refuse("lot_id", "on_hold", f"Lot {lot.code} gets no label: it is {lot.on_hold}.")
    field = [said for wanting in also_wanting for said in wanting(ctx, lot)]
    if field:
        raise refuse(
            "lot_id", "field_wanting", f"Lot {lot.code} gets no label: {'; '.join(field)}. Settle it in its field."
        )
    said = barred(ctx, [lot], ctx.today).get(lot.pk)
    if said:
        raise refuse("lot_id", "results_wanting", f"Lot {lot.code} gets no label: {said}. Enter the new result first.")
    signed = signed_for(lot)
    results = {row["attribute"]: row for row in (signed.results if signed else [])}

    def shown(name: str) -> str:
        row = results.get(name)
        return f"{row['value']:g} {row['unit']}" if row and row["value"] is not None else "not tested"

    return {
        "code": lot.code,
        "crop": lot.crop.name,
        "botanical_name": lot.crop.botanical_name,
        "cultivar": lot.line.name if lot.line else "",
        "seed_class": class_names(ctx).get(lot.seed_class, lot.seed_class),
        "germination": shown("germination"),
        "purity": shown("purity"),
        "released": ctx.local(signed.happened_at).date() if signed else ctx.today,
        "supplier": ctx.organisation.name,
        "cautions": lot.crop.cautions,
    }


def signed_for(lot: Lot) -> Verdict | None:
    """The newest verdict that released a lot, or the one that it was treated from."""
    known: set[int] = set()
    while lot.pk not in known:
        known.add(lot.pk)
        signed = lot.verdicts.filter(decision__in=RELEASING).select_related("standard").order_by("-id").first()
        parent = lot.made_from.filter(how="treated").select_related("parent").first() if signed is None else None
        if parent is None:
            return signed
        lot = parent.parent
    return None


def classes_below(ctx: Ctx, seed_class: str) -> list[str]:
    """Classes under this one in the house's scheme, the highest first."""
    scheme = class_scheme(ctx)
    return scheme.below(seed_class) if scheme else []


def judge(ctx: Ctx, lot: Lot) -> tuple[core.Verdict, Standard] | None:
    """The verdict of today, or None where no standard fits. Three queries."""
    crop, standards = lot.crop.slug, SeedStandards(ctx, lot.crop.slug)
    standard = standards.of(crop, lot.seed_class)
    if standard is None:
        return None
    lower = ((name, standards.of(crop, name)) for name in classes_below(ctx, lot.seed_class))
    below = [(name, standards.limits(one, crop)) for name, one in lower if one is not None]
    values = values_of(standing_of(lot))
    judged = core.judge_lot(
        limits=standards.limits(standard, crop), values=values, today=ctx.today, lower_classes=below
    )
    return judged, standard


def barred(ctx: Ctx, lots: Iterable[Lot], on: date | Mapping[int, date]) -> dict[int, str]:
    """Why lots may not leave on a day: held ones of any form, and released own seed by its results (one, or each lot's own), by lot; those that may are absent. A fixed number of queries.

    Judged by the results that were there on that day. Where the house has no standard of their class any more they are
    judged by the one they were released by.
    """
    lots = list(lots)
    found = {lot.pk: lot.on_hold for lot in lots if lot.on_hold}
    own = [lot for lot in lots if lot.status == Status.RELEASED and lot.pk not in found]
    if not own:
        return found
    standards = SeedStandards(ctx)
    results: dict[int, list[TestResult]] = {}
    for result in ctx.rows(TestResult).filter(lot__in=own).order_by("id"):
        results.setdefault(result.lot_id, []).append(result)
    signed = {
        row.lot_id: row.standard
        for row in ctx.rows(Verdict)
        .filter(lot__in=own, decision__in=RELEASING)
        .select_related("standard")
        .order_by("id")
    }
    for lot in own:
        standard = standards.of(lot.crop.slug, lot.seed_class) or signed.get(lot.pk)
        if standard is None:
            found[lot.pk] = "there is no standard by which it was judged"
            continue
        day = on if isinstance(on, date) else on[lot.pk]
        there = [result for result in results.get(lot.pk, ()) if result.tested_on <= day]
        values = values_of(standing_among(there))
        judged = core.judge_lot(limits=standards.limits(standard, lot.crop.slug), values=values, today=day)
        said = core.may_leave(judged)
        if said:
            found[lot.pk] = said
    return found


@act
def sign(
    ctx: Ctx, lot_id: Ref, *, decision: str, client_uuid: uuid.UUID, reason: str = "", seed_class: str = ""
) -> Verdict:
    """Sign a decision on a lot. Refused while a required result is wanting, and against any limit fixed by law."""
    ctx.get(Lot, lot_id, lock=True)
    done = ctx.rows(Verdict).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    if decision not in set(core.Proposal):
        raise refuse("decision", "not_a_choice", "Release, hold, downgrade or reject.")
    lot = own_lot(ctx, lot_id, *JUDGED)
    if lot.on_hold and decision in RELEASING:
        raise refuse(
            "decision", "on_hold", f"Lot {lot.code} is {lot.on_hold}. Lift that hold, or clear this lot of it, first."
        )
    judged = judge(ctx, lot)
    if judged is None:
        raise refuse(
            "lot_id",
            "no_standard",
            f"No seed standard of {lot.crop.name.lower()} for this class is in the library. Add one in Methods.",
        )
    if ctx.organisation.two_pairs and decision in RELEASING:
        _second_pair(ctx, lot)
    verdict, standard = judged
    wanted = core.Proposal(decision)
    target = lot.seed_class
    # What is declared of a lot is judged by the class that it leaves with.
    kept, said, lower_met = verdict, verdict.sentence, False
    if wanted is core.Proposal.DOWNGRADE:
        target = seed_class or verdict.downgrade_to or ""
        kept, standard = _judged_lower(ctx, lot, target)
        lower_met = kept.proposal is core.Proposal.RELEASE
        said = f"{kept.sentence} Downgraded from {class_names(ctx).get(lot.seed_class, lot.seed_class)}: {verdict.sentence}"
    refusal, text = core.may_sign(decision=wanted, verdict=verdict, reason=reason, lower_met=lower_met)
    if refusal:
        raise refuse("reason" if refusal is core.Refusal.REASON else "decision", refusal.value, text)
    return _signed(ctx, lot, wanted, kept.attributes, said, standard, target, reason, client_uuid)


def _second_pair(ctx: Ctx, lot: Lot) -> None:
    """Where the house asks for two pairs of eyes, whoever entered a result does not release by it. Raises Refused."""
    own = lot.test_results.filter(by=ctx.user, replaced_by=None).order_by("id").first() if ctx.user else None
    if own is not None:
        told = f"You entered its {own.kind}; this house lets somebody else sign. Ask another manager or the laboratory."
        raise refuse("decision", "second_person", told)


def _judged_lower(ctx: Ctx, lot: Lot, target: str) -> tuple[core.Verdict, Standard]:
    """A lot by the standard of a lower class. Raises Refused where there is none or a result is wanting."""
    if target not in classes_below(ctx, lot.seed_class):
        raise refuse("seed_class", "not_below", "Choose a class below the one it has.")
    standards = SeedStandards(ctx, lot.crop.slug)
    lower = standards.of(lot.crop.slug, target)
    if lower is None:
        raise refuse("seed_class", "no_standard", "There is no seed standard for that class. Add one in Methods.")
    again = core.judge_lot(
        limits=standards.limits(lower, lot.crop.slug), values=values_of(standing_of(lot)), today=ctx.today
    )
    if again.wanting:
        _, text = core.may_sign(decision=core.Proposal.RELEASE, verdict=again)
        raise refuse("decision", core.Refusal.WANTING.value, text)
    return again, lower


def _signed(
    ctx: Ctx,
    lot: Lot,
    decision: core.Proposal,
    attributes: Sequence[core.AttributeVerdict],
    said: str,
    standard: Standard,
    target: str,
    reason: str,
    client_uuid: uuid.UUID,
) -> Verdict:
    made = Verdict.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        role=ctx.role,
        lot=lot,
        standard=standard,
        decision=decision.value,
        seed_class=target,
        results=[row_of(a) for a in attributes],
        sentence=said[:600],
        happened_at=ctx.now,
        client_uuid=client_uuid,
        reason=reason.strip()[:300],
    )
    lot.status = {
        core.Proposal.RELEASE: Status.RELEASED,
        core.Proposal.DOWNGRADE: Status.RELEASED,
        core.Proposal.HOLD: Status.HELD,
        core.Proposal.REJECT: Status.REJECTED,
    }[decision]
    lot.seed_class = target
    lot.save(update_fields=["status", "seed_class"])
    words = {
        "release": "released",
        "hold": "held",
        "downgrade": f"downgraded to {class_names(ctx).get(target, target)}",
        "reject": "rejected",
    }[decision]
    ctx.record("lot.verdict", f"Lot {lot.code} {words}. {reason or said}", lot, after={"decision": decision})
    return made


def row_of(one: core.AttributeVerdict) -> dict[str, Any]:
    """An attribute's verdict as plain data."""
    return {
        "attribute": one.limit.attribute,
        "words": one.limit.words,
        "unit": one.limit.unit,
        "asked": one.limit.asked(),
        "outcome": one.outcome.value,
        "value": one.value,
        "margin": one.margin,
        "low": one.low,
        "high": one.high,
        "on": one.on.isoformat() if one.on else None,
        "note": one.note,
        "sentence": one.sentence,
        "required": one.limit.required,
        "statutory": one.limit.statutory,
        "source": one.limit.source or "",
    }


@act
def record_seals(ctx: Ctx, lot_id: Ref, *, numbers: Sequence[str], kind: str = "label") -> list[Seal]:
    """Official label or seal numbers that the authority issued for a released lot; each is used once."""
    lot = own_lot(ctx, lot_id, Status.RELEASED)
    wanted = [n.strip() for n in numbers if n.strip()]
    if not wanted or kind not in ("label", "seal"):
        raise refuse("numbers", "missing", "Which numbers did the authority issue? Write at least one.")
    if len(wanted) > 2000 or any(len(n) > 40 for n in wanted):
        raise refuse("numbers", "too_large", "At most 2 000 numbers at once, of at most 40 characters.")
    twice = sorted({n for n in wanted if wanted.count(n) > 1})
    used = list(ctx.rows(Seal).filter(number__in=wanted).select_related("lot"))
    if used:
        raise refuse(
            "numbers", "used", f"{used[0].number} is on lot {used[0].lot.code} already; each number is used once."
        )
    if twice:
        raise refuse("numbers", "twice", f"{twice[0]} stands there twice; each number is used once.")
    try:
        with transaction.atomic():
            made = [
                Seal.objects.create(
                    organisation=ctx.organisation, number=n, kind=kind, lot=lot, by=ctx.user, recorded_at=ctx.now
                )
                for n in wanted
            ]
    except IntegrityError:
        raise refuse("numbers", "used", "One of these numbers was recorded meanwhile; each is used once.") from None
    ctx.record("lot.seals", f"Recorded {len(made)} official {kind} numbers for lot {lot.code}.", lot)
    return made
