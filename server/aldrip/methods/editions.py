"""Library rows of the house, written whole, and what they were: every change an edition, retired and taken back."""

from collections.abc import Mapping
from typing import Any

from django.core.exceptions import ValidationError
from django.db import models

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import NotThere, refuse
from aldrip.methods.forms import TASK, Sort
from aldrip.methods.mixing import check_mix
from aldrip.methods.models import Crop, Edition, Input, Line, Method, MethodStage
from aldrip.methods.resolver import (
    KINDS,
    NAMED_BY_METHODS,
    NOT_VALUES,
    Library,
    library_names,
    plain_values,
    write_edition,
)
from aldrip.methods.snapshot import read_snapshot, take_snapshot, used_in
from aldrip_core.refusal import FieldError, Refused
from aldrip_core.stages import Density, Part, Trait, check
from aldrip_core.units import Unit

#: What each constraint of a library row means, and at which field it is said.
FORBIDDEN = {
    "container_holds_something": ("cells", "A container has at least one cell, and a cell holds more than nothing."),
    "isolation_rule_metres": ("metres", "A distance cannot be less than nothing."),
    "method_stage_share": ("share", "A stage takes a share above 0 and up to 1."),
    "method_stage_has_a_duration": ("days", "How long does the stage last? Say days, or a heat sum."),
    "line_has_both_parents_or_none": ("male", "A hybrid has a female and a male; name both, or neither."),
}
#: Kinds that records of a house name by themselves; others stand in a batch's snapshot as they were.
NAMED_BY_RECORDS = (Crop, Line)
STAGE_CHOICES: dict[str, type[Any]] = {"unit": Unit, "takes": Part, "joins": Part, "density": Density}


def editions_of(ctx: Ctx, kind: str, slug: str) -> list[dict[str, Any]]:
    """Every edition of a library row that the house can see, newest first, with the names of what each changed."""
    if kind not in KINDS:
        raise NotThere(f"There is no “{kind}” in the library.")
    rows = Edition.objects.filter(
        models.Q(organisation=ctx.organisation) | models.Q(organisation=None), kind=kind, slug=slug
    )
    before: dict[bool, dict[str, Any]] = {}
    found = []
    for one in rows.select_related("by").order_by("happened_at", "number"):
        own = one.organisation_id is not None
        earlier = before.get(own, before.get(False, {}))
        found.append(
            {
                "id": one.pk,
                "number": one.number,
                "own": own,
                "happened_at": one.happened_at,
                "by": one.by.username if one.by else "",
                "reason": one.reason,
                "values": one.values,
                "changed": changed_names(earlier, one.values) if earlier else [],
            }
        )
        before[own] = one.values
    return found[::-1]


def changed_names(one: Mapping[str, Any], other: Mapping[str, Any]) -> list[str]:
    """What differs between two editions, stages by their key: “cells”, “stages.grow.days”."""
    names = [name for name in sorted({*one, *other} - {"stages"}) if one.get(name) != other.get(name)]
    first, second = ({stage["key"]: stage for stage in values.get("stages", [])} for values in (one, other))
    for key in sorted({*first, *second}):
        if key not in first or key not in second:
            names.append(f"stages.{key}")
            continue
        fields = sorted({*first[key], *second[key]})
        names += [f"stages.{key}.{name}" for name in fields if first[key].get(name) != second[key].get(name)]
    return names


@act
def write_row(ctx: Ctx, kind: str, slug: str, values: Mapping[str, Any], reason: str = "") -> Edition:
    """The house's own row of a slug, as these values say; it hides the one that ships. Batches that run keep theirs.

    values: by field name as an edition has them, other library rows by slug; what is not said stays as it is.
    Raises Refused with what does not fit, by field.
    """
    return put_row(ctx, kind, slug, values, reason)


def put_row(ctx: Ctx, kind: str, slug: str, values: Mapping[str, Any], reason: str = "") -> Edition:
    """As `write_row`, inside a transaction of somebody else's."""
    model = KINDS.get(kind)
    if model is None:
        raise NotThere(f"There is no “{kind}” in the library.")
    standing = (
        model._default_manager.filter(models.Q(organisation=ctx.organisation) | models.Q(organisation=None), slug=slug)
        .select_related(*library_names(model))
        .order_by(models.F("organisation_id").asc(nulls_last=True))
        .first()
    )
    stated = {**(plain_values(standing) if standing else {"slug": slug, "retired": False}), **values, "slug": slug}
    library = Library(ctx)
    row = model(organisation=ctx.organisation)
    if standing is not None and standing.organisation_id is not None:
        row = model._default_manager.select_for_update().get(pk=standing.pk)
    stages = stated.pop("stages", [])
    if kind == "mix":
        check_mix({"amendments": [], **stated})
    _fill(library, row, stated)
    row.save()
    if standing is not None and standing.organisation_id is None and model in NAMED_BY_RECORDS:
        _take_over(ctx, standing, row)
    if isinstance(row, Method):
        _write_stages(library, row, stages)
    made = write_edition(row, ctx, reason)
    if made is None:
        made = Edition.objects.filter(organisation=ctx.organisation, kind=kind, slug=slug).order_by("-number")[0]
    else:
        ctx.record(
            "methods.edition",
            f"Wrote {row.name}, edition {made.number}.",
            row,
            after={"kind": kind, "slug": slug, "edition": made.number},
        )
    return made


def _take_over(ctx: Ctx, shipped: models.Model, own: models.Model) -> None:
    """Let the house's records name its own row where they named the shipped one: one crop is one crop, whoever wrote it."""
    relations = [
        one for one in type(shipped)._meta.get_fields(include_hidden=True) if one.one_to_many and one.auto_created
    ]
    for relation in relations:
        record: Any = relation.related_model
        names = {field.name: field for field in record._meta.concrete_fields}
        scoped = (
            ["organisation"]
            if "organisation" in names
            else [
                f"{name}__organisation"
                for name, field in names.items()
                if field.is_relation
                and any(one.name == "organisation" for one in field.related_model._meta.concrete_fields)
            ]
        )
        if scoped:
            named = relation.field.name  # type: ignore[union-attr]
            rows = record._default_manager.filter(**{named: shipped, scoped[0]: ctx.organisation})
            record._default_manager.filter(pk__in=list(rows.values_list("pk", flat=True))).update(**{named: own})


def retire(ctx: Ctx, kind: str, slug: str, reason: str) -> Edition:
    """Offer a library row no more. What was made with it stays, and an earlier edition can be taken back."""
    if not reason.strip():
        raise refuse("reason", "missing", "Say why it is not to be offered any more.")
    model = KINDS.get(kind)
    if model is None:
        raise NotThere(f"There is no “{kind}” in the library.")
    Library(ctx).get(model, slug)
    made: Edition = write_row(ctx, kind, slug, {"retired": True}, reason)
    return made


def take_back(ctx: Ctx, edition: Ref, reason: str = "") -> Edition:
    """Make an earlier edition, the house's own or a shipped one, the newest of the house's own."""
    name = "pk" if isinstance(edition, int) else "client_uuid"
    seen = models.Q(organisation=ctx.organisation) | models.Q(organisation=None)
    found = Edition.objects.filter(seen, **{name: edition}).first()
    if found is None:
        raise NotThere("There is no such edition in the library.")
    made: Edition = write_row(ctx, found.kind, found.slug, found.values, reason or f"edition {found.number} taken back")
    return made


def _fill(
    library: Library, row: models.Model, stated: Mapping[str, Any], at: str = "", without: frozenset[str] = frozenset()
) -> None:
    """Set what is stated on a row, other rows by slug; refuse what is no field of it or no value for it."""
    fields = {field.name: field for field in row._meta.concrete_fields if field.name not in NOT_VALUES | without}
    faults = [
        FieldError(f"{at}{name}", "unknown", f"There is no “{name}” here.") for name in stated if name not in fields
    ]
    for name, value in stated.items():
        field = fields.get(name)
        if isinstance(field, models.ForeignKey):
            target: Any = field.related_model
            try:
                setattr(row, name, library.named(target, value) if value else None)
            except NotThere as absent:
                faults.append(FieldError(f"{at}{name}", "not_there", str(absent)))
        elif field is not None:
            setattr(row, name, value)
    try:
        row.full_clean(
            exclude=NOT_VALUES
            | without
            | {name for name, field in fields.items() if _need_not_be_looked_at(row, field)},
            validate_unique=not without,  # a stage belongs to its method alone
        )
    except ValidationError as error:
        for name, said in error.message_dict.items():
            faults += [FieldError(f"{at}{field}", "invalid", words) for field, words in _told(name, said)]
    if faults:
        raise Refused(tuple(faults))


def _need_not_be_looked_at(row: models.Model, field: Any) -> bool:
    """Whether a field may be empty, or was found in the library a moment ago."""
    value = getattr(row, field.attname)
    found = field.name in NAMED_BY_METHODS and value is not None
    return found or isinstance(field, models.JSONField) or (field.null and value is None)


def _told(name: str, said: list[str]) -> list[tuple[str, str]]:
    """The field and the sentence of what the database forbids."""
    known = [told for constraint, told in FORBIDDEN.items() if any(constraint in one for one in said)]
    return known or [("values" if name == "__all__" else name, " ".join(said))]


def _write_stages(library: Library, method: Method, stated: list[dict[str, Any]]) -> None:
    made: list[MethodStage] = []
    faults: list[FieldError] = []
    for order, values in enumerate(stated):
        at = f"stages.{order}."
        stage = MethodStage(method=method)
        try:
            _fill(library, stage, {**values, "order": order}, at, frozenset({"method"}))
        except Refused as refused:
            faults += refused.errors
        if any(stage.key == other.key for other in made):
            words = f"Each stage has a key of its own; “{stage.key}” stands twice."
            faults.append(FieldError(f"{at}key", "twice", words))
        faults += _stage_faults(stage, at)
        made.append(stage)
    if faults:
        raise Refused(tuple(faults))
    used = used_in(made)
    inputs = {row.slug: row for row in library.rows(Input).filter(slug__in=used)} if used else {}
    faults = [
        FieldError(
            f"stages.{order}.tasks.{number}.input",
            "not_there",
            f"The input “{task['input']}” is not in the library, or retired.",
        )
        for order, stage in enumerate(made)
        for number, task in enumerate(stage.tasks)
        if task.get("input") and task["input"] not in inputs
    ]
    if faults:
        raise Refused(tuple(faults))
    check(read_snapshot(take_snapshot(method, made, inputs)).stages)
    method.stages.all().delete()
    MethodStage.objects.bulk_create(made)


def _stage_faults(stage: MethodStage, at: str) -> list[FieldError]:
    """What a stage says that cannot be read or cannot be."""
    faults = []
    for name, choices in STAGE_CHOICES.items():
        value = getattr(stage, name)
        known = (
            [getattr(one, "words", one.value) for one in choices] if choices is Unit else [one.value for one in choices]
        )
        if value and value not in known:
            faults.append(
                FieldError(f"{at}{name}", "not_a_choice", f"“{value}” is none of {', '.join(filter(None, known))}.")
            )
    for trait in stage.traits:
        if trait not in [one.value for one in Trait]:
            faults.append(FieldError(f"{at}traits", "not_a_choice", f"A stage cannot “{trait}”."))
    if not 0 < stage.keeps <= 1:
        faults.append(
            FieldError(
                f"{at}keeps", "out_of_range", f"“{stage.name}” keeps a share above 0 and up to 1, not {stage.keeps:g}."
            )
        )
    elif stage.keeps_sd < 0 or (
        stage.keeps_sd and stage.keeps < 1 and stage.keeps_sd**2 >= stage.keeps * (1 - stage.keeps)
    ):
        faults.append(
            FieldError(
                f"{at}keeps_sd",
                "out_of_range",
                f"A spread of {stage.keeps_sd:g} is too wide for a share of {stage.keeps:g}.",
            )
        )
    for name, most in (("days", 3000), ("give_days", 365), ("heat_sum_c_d", 20_000)):
        value = getattr(stage, name)
        if value is not None and not 0 <= value <= most:
            faults.append(FieldError(f"{at}{name}", "out_of_range", f"{value:g} cannot be; 0 to {most:,}."))
    faults += _task_faults(stage, at)
    if stage.rounds > 1 and not stage.round_days:
        faults.append(
            FieldError(f"{at}round_days", "missing", f"How many days lie between the rounds of “{stage.name}”?")
        )
    return faults


def _task_faults(stage: MethodStage, at: str) -> list[FieldError]:
    """Numbers of its work that are none, or cannot be."""
    faults = []
    for number, task in enumerate(stage.tasks):
        for asked in TASK:
            value = task.get(asked.name)
            if asked.sort not in (Sort.NUMBER, Sort.WHOLE) or value in (None, ""):
                continue
            whole = isinstance(value, int if asked.sort is Sort.WHOLE else int | float) and not isinstance(value, bool)
            if not whole or not (asked.low or 0) <= value <= (asked.high or 1e6):
                told = f"{asked.words}: a number from {asked.low or 0:g} to {asked.high or 1e6:g}, not “{value}”."
                faults.append(FieldError(f"{at}tasks.{number}.{asked.name}", "out_of_range", told))
    return faults
