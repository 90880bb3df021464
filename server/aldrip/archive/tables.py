"""Which tables an archive holds, whose rows belong to an organisation, and how a row is named outside its database."""

import json
from collections.abc import Iterator
from functools import cache
from typing import Any

from django.apps import apps
from django.contrib.postgres.fields import RangeField
from django.db import models

from aldrip.accounts.models import Organisation, User
from aldrip.base.models import Event, Known
from aldrip.methods.models import Shared

#: Rows that are told by what they belong to, where they have no uuid of their own.
NATURAL: dict[str, tuple[str, str]] = {
    "batches.batchstage": ("batch", "key"),
    "seedcrops.blockparent": ("block", "role"),
}
#: Fields of an organisation that say where it stands, not what it is.
NOT_ITS_OWN = {"id", "demo", "reckoned_on"}


#: Rooms of which nothing is worth keeping: long work that runs or ran.
PASSING = {"jobs"}


def label(model: type[models.Model]) -> str:
    """The name of a table in an archive."""
    return str(model._meta.label_lower)


def references(model: type[models.Model]) -> list[Any]:
    """The fields of a table that name rows of other tables."""
    return [field for field in model._meta.concrete_fields if field.is_relation]


@cache
def way_to_organisation(model: type[models.Model]) -> str | None:
    """The lookup from a row to the organisation that it belongs to; None where it belongs to none."""
    fields = references(model)
    if any(field.related_model is Organisation for field in fields):
        return "organisation"
    for field in fields:
        if field.null or field.related_model in (model, User):
            continue
        above = way_to_organisation(field.related_model)
        if above is not None:
            return f"{field.name}__{above}"
    return None


@cache
def tables() -> tuple[type[models.Model], ...]:
    """Every table with rows of an organisation, each after those that it refers to."""
    wanted = [
        model
        for app in apps.get_app_configs()
        if app.name.startswith("aldrip.")
        for model in app.get_models()
        if way_to_organisation(model) is not None and app.label not in PASSING
    ]
    found: list[type[models.Model]] = []
    while wanted:
        ready = [
            model
            for model in wanted
            if not any(
                field.related_model in wanted and field.related_model is not model for field in references(model)
            )
        ]
        if not ready:
            raise RuntimeError(f"These tables refer to each other in a circle: {', '.join(map(label, wanted))}")
        found += ready
        wanted = [model for model in wanted if model not in ready]
    return tuple(found)


def columns(model: type[models.Model]) -> list[Any]:
    """What an archive keeps of a row: all but its number, the organisation, and the notes by which an act is taken back."""
    return [
        f
        for f in model._meta.concrete_fields
        if not f.primary_key
        and f.related_model is not Organisation
        and (label(model), f.name) != ("accounts.auditevent", "act")
    ]


def name_of(row: models.Model) -> str:
    """A row's name outside its database."""
    if isinstance(row, User):
        return row.username
    if isinstance(row, Shared) and row.organisation_id is None:
        return f"shipped/{row.slug}"
    if isinstance(row, Known):
        return str(row.uuid)
    if isinstance(row, Event):
        return str(row.client_uuid)
    above, own = NATURAL[label(type(row))]
    return f"{name_of(getattr(row, above))}/{getattr(row, own)}"


def written(field: Any, row: models.Model) -> str:
    """A value as a cell of CSV: empty where there is none, JSON where it has parts."""
    value = getattr(row, field.attname)
    if value is None:
        return ""
    if isinstance(field, models.JSONField):
        return json.dumps(value, ensure_ascii=False, sort_keys=True)
    if isinstance(field, RangeField):
        return json.dumps([None if end is None else str(end) for end in (value.lower, value.upper)])
    return str(field.value_to_string(row))


def read(field: Any, cell: str) -> Any:
    """The value of a cell. Raises ValueError or ValidationError where it is none."""
    if isinstance(field, models.JSONField):
        return json.loads(cell) if cell else None
    if cell == "" and not (field.empty_strings_allowed and not field.null):
        return None
    if isinstance(field, RangeField):
        day: Any = field.base_field
        low, high = json.loads(cell)
        return field.range_type(day.to_python(low), day.to_python(high), "[)")
    return field.to_python(cell)


def rows_of(model: type[models.Model], organisation: Organisation) -> Iterator[models.Model]:
    """A table's rows of an organisation, oldest first, with everything that names them at hand."""
    way = way_to_organisation(model)
    needed = [field.name for field in references(model) if field.related_model is not Organisation]
    for field in references(model):
        if label(field.related_model) in NATURAL:
            needed.append(f"{field.name}__{NATURAL[label(field.related_model)][0]}")
    rows = (
        model._default_manager.filter(**{str(way): organisation}).select_related(*needed)
        if needed
        else model._default_manager.filter(**{str(way): organisation})
    )
    yield from rows.order_by("pk").iterator(chunk_size=2000)
