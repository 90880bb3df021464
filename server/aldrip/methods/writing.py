"""A library row as a form: what stands in it, what ships beside it, and what somebody typed over it."""

from collections.abc import Mapping, Sequence
from typing import Any

from django.db.models import F, Q
from django.utils.text import slugify

from aldrip.accounts.context import Ctx, act
from aldrip.base.errors import Conflict, FieldError, NotThere, Refused, refuse
from aldrip.methods.editions import put_row
from aldrip.methods.forms import (
    AMENDMENT,
    FORMS,
    LIMIT,
    SALT,
    STAGE,
    TASK,
    TIMED_STEP,
    Asked,
    blank,
    read_form,
    typed_of,
)
from aldrip.methods.models import Crop, Edition, Input, Shared
from aldrip.methods.resolver import KINDS, library_names, plain_values
from aldrip.methods.services import law_allows
from aldrip.methods.snapshot import TRAITS
from aldrip_core.names import plain
from aldrip_core.nutrients import molar_mass
from aldrip_core.seasons import read_windows
from aldrip_core.stages import Allowed
from aldrip_core.timed_procedure import GIVE_C, TimedStep, check_steps

OWN_FIGURE = "the house's own figure"


def _model(kind: str) -> type[Shared]:
    if kind not in FORMS:
        raise NotThere(f"There is no “{kind}” in the library.")
    return KINDS[kind]


def standing_row(ctx: Ctx, kind: str, slug: str, *, own: bool | None = None) -> Shared | None:
    """The row of a slug, retired or not: the house's own before the one that ships; `own` asks for one of the two."""
    rows = _model(kind)._default_manager.filter(slug=slug).select_related(*library_names(_model(kind)))
    mine, shipped = Q(organisation=ctx.organisation), Q(organisation=None)
    rows = rows.filter({None: mine | shipped, True: mine, False: shipped}[own])
    return rows.order_by(F("organisation_id").asc(nulls_last=True)).first()


def rows_of(ctx: Ctx) -> list[dict[str, Any]]:
    """Every row that has a form, the house's own in the place of the shipped one; retired ones too."""
    found: list[dict[str, Any]] = []
    raises = {"", *ctx.organisation.raises} if ctx.organisation.raises else set()
    for kind in FORMS:
        model = _model(kind)
        more = "crop__slug" if hasattr(model, "crop_id") else "allowed" if model is Input else ""
        named = ("slug", "name", "organisation_id", "retired", *((more,) if more else ()))
        rows: dict[str, dict[str, Any]] = {}
        known = model._default_manager.filter(Q(organisation=ctx.organisation) | Q(organisation=None))
        for slug, name, own, retired, *other in known.order_by(F("organisation_id").desc(nulls_first=True)).values_list(
            *named
        ):
            rows[slug] = {
                "kind": kind,
                "slug": slug,
                "name": name,
                "own": own is not None,
                "retired": retired,
                "crop": (other[0] or "") if more == "crop__slug" else "",
                "said": (other[0] or "") if more == "allowed" else "",
            }
            rows[slug]["raised"] = own is not None or not raises or _crop_of(rows[slug]) in raises

        found.extend(
            sorted(rows.values(), key=lambda row: (row["said"], row["crop"], str(row["name"]).casefold(), row["slug"]))
        )
    return found


def _crop_of(row: Mapping[str, Any]) -> str:
    return str(row["slug"] if row["kind"] == "crop" else row["crop"])


def editions_written(ctx: Ctx, kind: str, slug: str) -> int:
    """How many editions of a row the house can see: it grows with every change, whoever made it."""
    seen = Q(organisation=ctx.organisation) | Q(organisation=None)
    return Edition.objects.filter(seen, kind=kind, slug=slug).count()


def form_of(ctx: Ctx, kind: str, slug: str) -> dict[str, Any]:
    """A row as its form shows it, with the shipped values that the house's own ones stand over."""
    row = standing_row(ctx, kind, slug)
    if row is None:
        raise NotThere(f"There is no “{slug}” in the library.")
    values = plain_values(row)
    own = row.organisation_id is not None
    shipped = standing_row(ctx, kind, slug, own=False) if own else None
    typed = _typed(kind, values)
    ships = _typed(kind, plain_values(shipped)) if shipped is not None else {}
    return {
        "kind": kind,
        "slug": slug,
        "name": row.name,
        "own": own,
        "ships": shipped is not None or not own,
        "retired": row.retired,
        "edition": row.edition,
        "seen": editions_written(ctx, kind, slug),
        "typed": typed,
        "sources": values.get("sources", {}),
        "stage_sources": {stage["key"]: stage["sources"] for stage in values.get("stages", [])},
        "shipped": {name: ships[name] for name in ships if ships[name] != typed[name]},
    }


def _typed(kind: str, values: Mapping[str, Any]) -> dict[str, Any]:
    typed = typed_of(FORMS[kind], values)
    before = ""
    for stage in typed.get("stages", []):  # the stage above is meant where nothing is said
        stage["after"] = "" if stage["after"] == before else stage["after"]
        before = stage["key"]
    return typed


@act
def write_form(
    ctx: Ctx,
    kind: str,
    slug: str | None,
    typed: Mapping[str, Any],
    *,
    like: str = "",
    source: str = "",
    reason: str = "",
    seen: int | None = None,
) -> Edition:
    """Save what was typed as the house's own row: of a slug, or a new one; `like` lends a new one what is not asked for.

    seen: number of the newest edition that whoever typed had before them, the house's own and shipped ones together.
    Raises Conflict when another was written since.
    """
    if slug and seen is not None and seen != editions_written(ctx, kind, slug):
        now = form_of(ctx, kind, slug)
        raise Conflict(
            f"Somebody changed “{now['name']}” meanwhile. Nothing of yours was saved; look at it again.",
            typed=now["typed"],
            seen=now["seen"],
        )
    return save_form(ctx, kind, slug, typed, like=like, source=source, reason=reason)


def save_form(
    ctx: Ctx,
    kind: str,
    slug: str | None,
    typed: Mapping[str, Any],
    *,
    like: str = "",
    source: str = "",
    reason: str = "",
    stated: Mapping[str, Mapping[str, Any]] | None = None,
    fresh: bool = False,
) -> Edition:
    """As `write_form`, inside a transaction of somebody else's: so a draft is written, looked at and let go.

    stated: sources that are known by field, under the key of their stage, or “”. fresh: a row of this slug is yet to be.
    """
    _model(kind)
    after = like if fresh else slug or like
    row = standing_row(ctx, kind, after) if after else None
    if row is None and after:
        raise NotThere(f"There is no “{after}” in the library.")
    before = plain_values(row) if row is not None else {}
    stands = before if slug or kind != "class_scheme" else {}  # a new scheme owes nothing to the one it is made after
    values = _completed(kind, {**(before or blank(FORMS[kind])), **read_form(kind, typed)}, stands, source)
    values["sources"] = _sources(values, before, source)
    values["retired"] = False
    _state(values, stated or {})
    known = slug or _fresh_slug(ctx, kind, values["name"])
    return put_row(ctx, kind, known, {**values, "slug": known}, reason)


def _state(values: dict[str, Any], stated: Mapping[str, Mapping[str, Any]]) -> None:
    """Put the sources that are stated beside the values that they are of."""
    for key, sources in stated.items():
        of = values if not key else next((one for one in values.get("stages", []) if one["key"] == key), None)
        if of is not None:
            known = {str(name): str(text)[:200] for name, text in sources.items()}
            said = {name: text for name, text in known.items() if of.get(name) not in (None, "", [], {})}
            of["sources"] = {**of["sources"], **said}


def _fresh_slug(ctx: Ctx, kind: str, name: str) -> str:
    plain = slugify(name)[:70] or kind
    taken = set(
        _model(kind)
        ._default_manager.filter(Q(organisation=ctx.organisation) | Q(organisation=None), slug__startswith=plain)
        .values_list("slug", flat=True)
    )
    same = standing_row(ctx, kind, plain)
    if same is not None and same.name.casefold() == name.casefold():
        raise refuse(
            "name", "twice", f"“{name}” is in the library already. Change that one, or call this one something else."
        )
    return next(one for one in (plain, *(f"{plain}-{n}" for n in range(2, 1000))) if one not in taken)


def _sources(values: Mapping[str, Any], before: Mapping[str, Any], source: str) -> dict[str, str]:
    """Where each value comes from: what was typed over says so, the rest keeps what it had."""
    kept = dict(before.get("sources", {}))
    for name, value in values.items():
        if name not in ("sources", "stages", "limits", "name", "slug", "retired") and value != before.get(name):
            if value in (None, "", [], {}):
                kept.pop(name, None)
            elif before or isinstance(value, int | float):
                kept[name] = source.strip()[:200] or OWN_FIGURE
    return kept


def _completed(kind: str, values: dict[str, Any], before: Mapping[str, Any], source: str) -> dict[str, Any]:
    if kind == "isolation_rule":
        law_allows(values)
        values["name"] = f"{values['metres']:g} m from {values['kind']}"
    if kind == "input":
        _check_input(values)
    if kind == "treatment":
        values["steps"] = _as_before(TIMED_STEP, values["steps"], before.get("steps", []))
        _check_treatment(values)
    if kind == "mix":
        values["amendments"] = _as_before(AMENDMENT, values["amendments"], before.get("amendments", []))
    if kind == "recipe":
        values["salts"] = _as_before(SALT, values["salts"], before.get("salts", []))
        _check_recipe(values)
    if kind == "standard":
        values["limits"] = _limits(values["limits"], before)
    if kind == "class_scheme":
        values["classes"] = _classes(values["classes"], before)
    if kind == "method":
        values["stages"] = _stages(values, before, source)
    return values


def _check_input(values: Mapping[str, Any]) -> None:
    """Refuse what cannot be in a bag, and a substance that is known as banned and is said to be free."""
    if (whole := sum(values["contains"].values())) > 100:
        told = f"That is {whole:g} % in all; nothing holds more than 100 % of its weight."
        raise refuse("contains", "too_much", told)
    said = plain(f"{values['name']} {values['active']}")
    for known in Input.objects.filter(organisation=None, allowed=Allowed.BANNED.value).exclude(active=""):
        if not values["allowed"] and f" {plain(known.active)} " in f" {said} ":
            told = f"{known.active} is banned ({known.sources.get('allowed', '')}). Say “banned”, or “old” where your law still lets it be used."
            raise refuse("allowed", "known_as_banned", told)


def timed_steps(rows: Sequence[Mapping[str, Any]]) -> list[TimedStep]:
    """The steps of a treatment as core takes them."""
    return [
        TimedStep(one["name"], one["minutes"], one.get("at_c"), one.get("give_c") or GIVE_C, one.get("over_minutes"))
        for one in rows
    ]


def _check_treatment(values: Mapping[str, Any]) -> None:
    """Refuse steps that nobody can follow, and crops that are none."""
    check_steps(timed_steps(values["steps"]))
    known = {plain(name) for name in Crop.objects.values_list("name", flat=True)}
    for name in values["crops"]:
        if plain(name) not in known:
            told = f"“{name}” is no crop of the library. Add it under Crops, or leave it out."
            raise refuse("crops", "unknown_crop", told)


def _check_recipe(values: Mapping[str, Any]) -> None:
    """Refuse a salt that is none, and limits that nothing meets."""
    for n, one in enumerate(values["salts"]):
        if bool(one.get("formula")) == bool(one.get("input")):
            raise refuse(f"salts.{n}.formula", "one_of", "A salt by its formula, or a product: one of the two.")
        if one.get("formula"):
            molar_mass(one["formula"], f"salts.{n}.formula")
    for name in ("ec", "ph"):
        low, high = values[f"{name}_low"], values[f"{name}_high"]
        if low is not None and high is not None and low > high:
            raise refuse(f"{name}_high", "out_of_range", f"At most {high:g} and at least {low:g}: nothing meets both.")


STEPS = ("hybrid", "increase", "open")


def _classes(typed: list[dict[str, Any]], before: Mapping[str, Any]) -> list[dict[str, Any]]:
    """Classes of seed, each grown from classes above it. One that is there already may be renamed, not taken out.

    Seed of it may be in stock: whoever wants fewer makes another scheme.
    """
    faults: list[FieldError] = []
    found: list[dict[str, Any]] = []
    for index, one in enumerate(typed):
        slug = one.get("slug") or slugify(one["name"])[:40]
        if not slug or any(other["slug"] == slug for other in found):
            faults.append(FieldError(f"classes.{index}.name", "twice", f"“{one['name']}” is there already."))
        above = {plain(name): other["slug"] for other in found for name in (other["slug"], other["name"])}
        grown = []
        for name in one.get("from", []):
            if plain(name) not in above:
                told = f"“{name}” is no class above it. Known: {', '.join(other['name'] for other in found) or 'none yet'}."
                faults.append(FieldError(f"classes.{index}.from", "not_above", told))
            else:
                grown.append(above[plain(name)])
        for step in one.get("not_for", []):
            if step not in STEPS:
                told = f"“{step}” is none of {', '.join(STEPS)}."
                faults.append(FieldError(f"classes.{index}.not_for", "not_a_choice", told))
        row = {"slug": slug, "name": one["name"], "from": grown}
        found.append({**row, "not_for": one["not_for"]} if one.get("not_for") else row)
    there = {one["slug"] for one in found}
    for was in before.get("classes", []):
        if was["slug"] not in there:
            told = (
                f"“{was['name']}” cannot be taken out: seed of it may be in stock. Make another scheme after this one."
            )
            faults.append(FieldError("classes", "in_use", told))
    if faults:
        raise Refused(faults)
    return found


def _limits(typed: list[dict[str, Any]], before: Mapping[str, Any]) -> list[dict[str, Any]]:
    known = {limit["attribute"]: limit for limit in before.get("limits", [])}
    found = []
    for limit in typed:
        attribute = limit.get("attribute") or slugify(limit.get("words", "")).replace("-", "_")
        was = known.get(attribute, {})
        said = {**limit, "attribute": attribute, "source": limit.get("source") or was.get("source") or OWN_FIGURE}
        if any(said.get(name) != was.get(name) for name in ("low", "high")) and said["source"] == was.get("source"):
            said["source"] = OWN_FIGURE
        extra = {name: value for name, value in was.items() if name not in said}
        found.append({**extra, **said})
    return _as_before(LIMIT, found, before.get("limits", []))


def _as_before(
    fields: tuple[Asked, ...], rows: list[dict[str, Any]], before: list[dict[str, Any]]
) -> list[dict[str, Any]]:
    """Rows of a table without what is empty; one that says what a row before it said stays as that was written."""

    def full(row: Mapping[str, Any]) -> dict[str, Any]:
        return {**blank(fields), **row}

    return [
        next(
            (one for one in before if full(one) == full(row)),
            {name: value for name, value in row.items() if value not in (None, "")},
        )
        for row in rows
    ]


def _stages(values: Mapping[str, Any], before: Mapping[str, Any], source: str = "") -> list[dict[str, Any]]:
    """Typed stages with what is not asked for: keys, what they come after, what their kind does, their sources."""
    known = {stage["key"]: stage for stage in before.get("stages", [])}
    found: list[dict[str, Any]] = []
    for typed in values["stages"]:
        key = typed.get("key") or _fresh_key(typed.get("kind") or "stage", [*(one["key"] for one in found), *known])
        was = known.get(key, {})
        stage = {**blank(STAGE), **was, **typed, "key": key}
        stage["after"] = typed.get("after") or (found[-1]["key"] if found else "")
        if stage["after"] != was.get("after"):
            stage["follows"] = ""
        if not stage["traits"]:
            stage["traits"] = [trait.value for trait in TRAITS.get(stage["kind"], ())]
        if not found and not stage["takes"]:
            stage["takes"] = "seed" if values["by_seed"] else "cutting"
        for name, usual in (
            ("rounds", 1),
            ("multiply", 1.0),
            ("share", 1.0),
            ("keeps", 1.0),
            ("keeps_sd", 0.0),
            ("multiply_sd", 0.0),
        ):
            stage[name] = usual if stage[name] is None else stage[name]
        stage["tasks"] = _as_before(TASK, stage["tasks"], was.get("tasks", []))
        stage["container"] = stage["container"] or None
        stage["joins"], stage["joins_crop"] = stage["joins"] or "", stage["joins_crop"] or ""
        stage.setdefault("round_shares", [])
        _check_windows(stage, len(found))
        stage["sources"] = _stage_sources(stage, was, source)
        stage.pop("order", None)
        found.append(stage)
    return found


def _check_windows(stage: Mapping[str, Any], index: int) -> None:
    """Refuse a part of the year that nobody can read, at its field."""
    for line in stage.get("begins") or []:
        try:
            read_windows([line])
        except Refused as refused:
            told = refused.errors[0]
            raise refuse(f"stages.{index}.begins", told.code, told.message) from None


def _stage_sources(stage: Mapping[str, Any], was: Mapping[str, Any], source: str) -> dict[str, str]:
    kept = dict(was.get("sources", {}))
    for name in (
        "days",
        "give_days",
        "by_month",
        "cool_days",
        "full_c",
        "half_light_mol",
        "begins",
        "floor_c",
        "after_frost_days",
        "heat_sum_c_d",
        "base_c",
        "ceiling_c",
        "keeps",
        "multiply",
        "unit_m2",
    ):
        if stage.get(name) != was.get(name) and stage.get(name) not in (None, []):
            kept[name] = source.strip()[:200] or OWN_FIGURE
    return kept


def _fresh_key(kind: str, taken: list[str]) -> str:
    plain = slugify(kind)[:30] or "stage"
    return next(one for one in (plain, *(f"{plain}-{n}" for n in range(2, 1000))) if one not in taken)
