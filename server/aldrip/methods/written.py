"""The library as YAML, out and in: what stands in a form, as text that people keep, compare and send each other."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import yaml
from django.db import transaction
from django.utils.text import slugify

from aldrip.accounts.context import Ctx
from aldrip.base.errors import NotThere, refuse
from aldrip.methods.editions import changed_names
from aldrip.methods.forms import FORMS, Asked, Sort, blank, typed_of
from aldrip.methods.models import Method
from aldrip.methods.resolver import plain_values
from aldrip.methods.writing import form_of, rows_of, save_form, standing_row
from aldrip_core.refusal import FieldError, Refused

LONGEST = 1_000_000  # characters
MOST = 500  # rows at once
NOT_ASKED = {"row", "slug", "like", "sources"}


class _Plain(yaml.SafeLoader):
    """YAML without anchors: a few lines of them can stand for more than a machine holds."""

    def compose_node(self, parent: Any, index: Any) -> Any:
        if self.check_event(yaml.AliasEvent):
            raise yaml.YAMLError("Anchors and aliases are not read here; write the values out.")
        return super().compose_node(parent, index)


def yaml_of(ctx: Ctx, kind: str = "", slug: str = "") -> str:
    """One row as YAML, or everything of the house's own."""
    wanted = (
        [(kind, slug)]
        if slug
        else [(row["kind"], row["slug"]) for row in rows_of(ctx) if row["own"] and kind in ("", row["kind"])]
    )
    rows = [_entry(ctx, *one) for one in wanted]
    return yaml.safe_dump(rows, allow_unicode=True, sort_keys=False, width=120) if rows else "[]\n"


def _entry(ctx: Ctx, kind: str, slug: str) -> dict[str, Any]:
    form = form_of(ctx, kind, slug)
    entry = {"row": kind, "slug": slug, **_written(FORMS[kind], form["typed"])}
    for stage in entry.get("stages", []):
        if form["stage_sources"].get(stage.get("key")):
            stage["sources"] = form["stage_sources"][stage["key"]]
    lent = _lent_by(ctx, kind, slug)
    return {**entry, **({"like": lent} if lent else {}), **({"sources": form["sources"]} if form["sources"] else {})}


def _lent_by(ctx: Ctx, kind: str, slug: str) -> str:
    """The shipped method that lends a seed crop's layout, which no form asks for."""
    row = standing_row(ctx, kind, slug)
    if not isinstance(row, Method) or row.way == "plants" or row.organisation_id is None:
        return ""
    shipped = Method.objects.filter(organisation=None, way=row.way, layout=row.layout).order_by("id").first()
    return shipped.slug if shipped else ""


def _written(fields: tuple[Asked, ...], typed: Mapping[str, Any]) -> dict[str, Any]:
    """Typed values as YAML shows them: numbers bare, lines as lists; what stands as in an empty form is left out."""
    usual = typed_of(fields, blank(fields))
    said: dict[str, Any] = {}
    for one in fields:
        value = typed[one.name]
        if value == usual[one.name]:
            continue
        if one.sort is Sort.TABLE:
            said[one.name] = [_written(one.fields, row) for row in value]
        elif one.sort is Sort.LINES:
            said[one.name] = value.splitlines()
        elif one.sort in (Sort.NUMBER, Sort.WHOLE, Sort.SHARE):
            said[one.name] = _number(value)
        else:
            said[one.name] = value or None if one.sort is not Sort.CHECK else value
    return said


def _number(text: str) -> Any:
    if not text:
        return None
    for kind in (int, float):
        try:
            value = kind(text)
        except ValueError:
            continue
        if str(value) == text:
            return value
    return text


@dataclass
class Taken:
    """What became of one row of a YAML text, or would: new, changed in these fields, or as it is."""

    kind: str
    slug: str
    name: str
    state: str
    changed: list[str] = field(default_factory=list)
    faults: list[FieldError] = field(default_factory=list)


def take_yaml(ctx: Ctx, text: str, *, commit: bool) -> list[Taken]:
    """Read rows and say of each what it would change and what stands against it; saved only when all of them can be.

    Raises Refused where the text is no list of rows.
    """
    entries = _entries(text)
    with transaction.atomic():
        if commit:
            ctx.lock()
        taken = [_take(ctx, entry) for entry in entries]
        if not commit or any(one.faults for one in taken):
            transaction.set_rollback(True)
    return taken


def _entries(text: str) -> list[dict[str, Any]]:
    if len(text) > LONGEST:
        raise refuse(
            "text", "too_large", f"{len(text):,} characters are more than the {LONGEST:,} that are read at once."
        )
    try:
        # Only this loader is used, and it is a safe one.
        read = yaml.load(text, Loader=_Plain)
    except (yaml.YAMLError, ValueError, RecursionError) as error:
        mark = getattr(error, "problem_mark", None)
        at = f" in line {mark.line + 1}" if mark else ""
        raise refuse(
            "text", "unreadable", f"This cannot be read as YAML{at}: {getattr(error, 'problem', None) or error}."
        ) from None
    rows = read if isinstance(read, list) else [read]
    if not read or not all(isinstance(row, dict) for row in rows):
        raise refuse("text", "no_rows", "Write a list of rows, each with its kind and its fields.")
    if len(rows) > MOST:
        raise refuse("text", "too_many", f"{len(rows):,} rows are more than the {MOST} that are read at once.")
    return rows


def _take(ctx: Ctx, entry: Mapping[str, Any]) -> Taken:
    kind, slug = str(entry.get("row", "")), str(entry.get("slug", "") or "")
    found = Taken(kind, slug, str(entry.get("name", "")), "new")
    if kind not in FORMS:
        found.faults.append(FieldError("row", "not_a_choice", f"“{kind}” is none of {', '.join(FORMS)}."))
        return found
    if slug and (slugify(slug) != slug or len(slug) > 80):
        found.faults.append(
            FieldError("slug", "invalid", f"“{slug}” has more in it than small letters, figures and hyphens.")
        )
        return found
    standing = standing_row(ctx, kind, slug) if slug else None
    before = plain_values(standing) if standing is not None else {}
    typed = {name: value for name, value in entry.items() if name not in NOT_ASKED}
    try:
        with transaction.atomic():
            made = save_form(
                ctx,
                kind,
                slug or None,
                _typed(FORMS[kind], typed),
                like=str(entry.get("like", "") or ""),
                stated=_sources_of(entry),
                fresh=standing is None,
                reason="from YAML",
            )
            found.slug, found.name = made.slug, str(made.values["name"])
            found.changed = changed_names(before, made.values) if before else []
            found.state = "new" if not before else "changed" if found.changed else "same"
    except Refused as refused:
        found.faults += refused.errors
    except NotThere as absent:
        found.faults.append(FieldError("like", "not_there", str(absent)))
    return found


def _typed(fields: tuple[Asked, ...], said: Mapping[str, Any]) -> dict[str, Any]:
    """What a text says as a form would have it; what is left out stands as in an empty one."""
    typed = typed_of(fields, blank(fields))
    known = {one.name: one for one in fields}
    for name, value in said.items():
        one = known.get(str(name))
        if one is not None and one.sort is Sort.LINES and isinstance(value, list):
            typed[one.name] = "\n".join(str(line) for line in value)
        elif (
            one is not None
            and one.sort is Sort.TABLE
            and isinstance(value, list)
            and all(isinstance(row, Mapping) for row in value)
        ):
            typed[one.name] = [_typed(one.fields, {k: v for k, v in row.items() if k != "sources"}) for row in value]
        elif one is not None and one.sort is Sort.PARTS and isinstance(value, Mapping):
            typed[one.name] = ", ".join(f"{part} {many}" for part, many in value.items())
        else:
            typed[str(name)] = value
    return typed


def _sources_of(entry: Mapping[str, Any]) -> dict[str, Mapping[str, Any]]:
    """Sources by field, those of stages by the key of the stage."""
    rows = entry.get("stages")
    stages = [row for row in rows if isinstance(row, Mapping)] if isinstance(rows, list) else []
    said = {
        "": entry.get("sources"),
        **{str(row.get("key", "")): row.get("sources") for row in stages if row.get("key")},
    }
    return {key: sources for key, sources in said.items() if isinstance(sources, Mapping)}
