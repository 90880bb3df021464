"""Which library row counts for a house: its own over the one that ships, by slug; editions as they were."""

import json
from functools import cached_property
from typing import Any, TypeVar

from django.core.serializers.json import DjangoJSONEncoder
from django.db import models
from django.db.models import F
from django.utils import timezone

from aldrip.accounts.context import Ctx
from aldrip.base.errors import NotThere
from aldrip.methods.models import (
    ClassScheme,
    Container,
    Crop,
    Edition,
    Input,
    IsolationRule,
    Line,
    Method,
    MethodStage,
    Mix,
    Recipe,
    Remedy,
    Shared,
    Standard,
    Treatment,
)

LibraryRow = TypeVar("LibraryRow", bound=Shared)
KINDS: dict[str, type[Shared]] = {
    "crop": Crop,
    "line": Line,
    "container": Container,
    "mix": Mix,
    "input": Input,
    "treatment": Treatment,
    "recipe": Recipe,
    "class_scheme": ClassScheme,
    "isolation_rule": IsolationRule,
    "remedy": Remedy,
    "standard": Standard,
    "method": Method,
}
#: What a method or a stage of it names of the library.
NAMED_BY_METHODS: dict[str, type[Shared]] = {"crop": Crop, "container": Container, "mix": Mix, "standard": Standard}
NOT_VALUES = {"id", "uuid", "organisation", "edition"}


class Library:
    """The library of a house. Each kind is read once, however often it is asked for."""

    def __init__(self, ctx: Ctx) -> None:
        self.ctx = ctx
        self._own: dict[type[Shared], dict[str, Any]] = {}
        self._named: dict[tuple[type[Shared], str], Any] = {}

    def rows(self, model: type[LibraryRow]) -> models.QuerySet[LibraryRow]:
        """What counts, unordered: an own row hides the shipped one of its slug; retired ones are left out."""
        shipped = model._default_manager.filter(organisation=None)
        own = model._default_manager.filter(organisation=self.ctx.organisation)
        hidden = own.values("slug")
        rows: Any = model._default_manager.filter(
            models.Q(pk__in=own.values("pk")) | (models.Q(pk__in=shipped.values("pk")) & ~models.Q(slug__in=hidden))
        )
        return rows.filter(retired=False)  # type: ignore[no-any-return]

    def ordered(self, model: type[LibraryRow]) -> models.QuerySet[LibraryRow]:
        """What counts, own ones first."""
        return self.rows(model).order_by(F("organisation_id").asc(nulls_last=True), "id")

    def get(self, model: type[LibraryRow], slug: str) -> LibraryRow:
        """The row of a slug that counts. Raises NotThere."""
        found = self.rows(model).filter(slug=slug).first()
        if found is None:
            seen = models.Q(organisation=self.ctx.organisation) | models.Q(organisation=None)
            gone = model._default_manager.filter(seen, slug=slug, retired=True).first()
            if gone is not None:
                raise NotThere(f"“{gone.name}” is retired. Choose another, or take an edition of it back in Methods.")
            raise NotThere(f"There is no {model._meta.verbose_name} “{slug}” in the library.")
        return found

    def named(self, model: type[LibraryRow], slug: str) -> LibraryRow:
        """As `get`, asked for once: for rows that are named again and again while one is written."""
        if (model, slug) not in self._named:
            self._named[model, slug] = self.get(model, slug)
        found: LibraryRow = self._named[model, slug]
        return found

    def own(self, model: type[LibraryRow]) -> dict[str, LibraryRow]:
        """The house's own rows of a kind by slug, asked for once."""
        if model not in self._own:
            rows = model._default_manager.filter(organisation=self.ctx.organisation, retired=False)
            self._own[model] = {row.slug: row for row in rows}
        return self._own[model]

    def resolve(self, method: Method) -> Method:
        """Let a method speak of what counts in the house: own rows in the place of the shipped ones that it names.

        In memory only; a shipped method is not the house's to change.
        """
        for holder in (method, *method.stages.all()):
            for name, model in NAMED_BY_METHODS.items():
                named = getattr(holder, name, None)
                instead = (
                    self.own(model).get(named.slug) if named is not None and named.organisation_id is None else None
                )
                if instead is not None:
                    setattr(holder, name, instead)
        return method

    @cached_property
    def scheme(self) -> ClassScheme | None:
        """The scheme of seed classes that the house goes by."""
        return self.rows(ClassScheme).filter(slug=self.ctx.organisation.class_scheme).first()


def library_names(model: type[models.Model]) -> list[str]:
    """The fields of a library row that name other ones."""
    named = (field for field in model._meta.concrete_fields if isinstance(field, models.ForeignKey))
    return [field.name for field in named if field.name not in NOT_VALUES]


def values_of(row: Shared) -> dict[str, Any]:
    """Everything that a library row says, as plain data: other library rows by slug, a method with its stages."""
    values: dict[str, Any] = {}
    for field in row._meta.concrete_fields:
        if field.name in NOT_VALUES:
            continue
        value = getattr(row, field.name)
        values[field.name] = getattr(value, "slug", None) if isinstance(field, models.ForeignKey) else value
    if isinstance(row, Method):
        there = "stages" in getattr(row, "_prefetched_objects_cache", {})
        stages = row.stages.all() if there else row.stages.select_related("container")
        values["stages"] = [_stage_values(stage) for stage in stages]
    return values


def plain_values(row: Shared) -> dict[str, Any]:
    """What a library row says as JSON keeps it."""
    plain: dict[str, Any] = json.loads(json.dumps(values_of(row), cls=DjangoJSONEncoder, sort_keys=True))
    return plain


def _stage_values(stage: MethodStage) -> dict[str, Any]:
    values = {
        f.name: getattr(stage, f.name)
        for f in stage._meta.concrete_fields
        if f.name not in ("id", "method", "container")
    }
    return {**values, "container": stage.container.slug if stage.container else None}


def kind_of(row: Shared) -> str:
    """The name of a library row's kind."""
    return next(name for name, model in KINDS.items() if isinstance(row, model))


def write_edition(row: Shared, ctx: Ctx | None = None, reason: str = "") -> Edition | None:
    """Keep a library row as it is now as its newest edition; None where nothing of it changed. Call inside a transaction."""
    values = plain_values(row)
    kind, own = kind_of(row), row.organisation
    newest = Edition.objects.filter(organisation=own, kind=kind, slug=row.slug).order_by("-number").first()
    if newest is not None and newest.values == values:
        return None
    number = newest.number + 1 if newest else 1
    made = Edition.objects.create(
        organisation=own,
        by=ctx.user if ctx else None,
        kind=kind,
        slug=row.slug,
        number=number,
        values=values,
        happened_at=ctx.now if ctx else timezone.now(),
        reason=reason[:300],
    )
    if row.edition != number:
        row.edition = number
        row.save(update_fields=["edition"])
    return made
