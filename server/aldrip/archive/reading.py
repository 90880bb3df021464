"""Bring an archive into this Aldrip: everything or nothing."""

import csv
import io
import json
import secrets
import zipfile
from dataclasses import dataclass, field
from typing import Any, BinaryIO

from django.core.exceptions import ValidationError
from django.db import DataError, IntegrityError, models, transaction

from aldrip.accounts.context import Ctx
from aldrip.accounts.models import Organisation, Role, User
from aldrip.archive.tables import NATURAL, NOT_ITS_OWN, columns, label, name_of, read, tables
from aldrip.archive.writing import FORMAT, VERSION
from aldrip.base.errors import refuse
from aldrip.base.models import Event, Known
from aldrip.methods.editions import write_row
from aldrip.methods.resolver import KINDS

MOST_BYTES = 1_000_000_000  # unpacked


@dataclass
class BroughtIn:
    """A nursery that came in, and the new passwords of its managers."""

    organisation: Organisation
    counts: dict[str, int]
    passwords: dict[str, str] = field(default_factory=dict)


def read_archive(file: BinaryIO) -> BroughtIn:
    """Bring in what `write_archive` wrote, here or elsewhere, by this version or an earlier one.

    Raises Refused: it is no archive, is damaged, comes from a newer Aldrip, or its nursery is here already.
    """
    parts = _unpacked(file)
    head = _json(parts, "archive.json")
    if head.get("format") != FORMAT:
        raise refuse("file", "no_archive", "This is no archive of Aldrip: archive.json says something else.")
    if head.get("version", 0) > VERSION:
        raise refuse("file", "newer", "This archive was made by a newer Aldrip. Bring this one up to date first.")
    try:
        with transaction.atomic():
            return _Reader(parts, head).bring_in()
    except (IntegrityError, DataError) as error:
        said = str(error).splitlines()[0]
        raise refuse("file", "damaged", f"The archive contradicts itself; nothing was brought in. ({said})") from error


def _unpacked(file: BinaryIO) -> dict[str, str]:
    try:
        with zipfile.ZipFile(file) as packed:
            if sum(info.file_size for info in packed.infolist()) > MOST_BYTES:
                raise refuse(
                    "file", "too_large", f"More than {MOST_BYTES / 1e9:g} GB unpacked; this is no archive of a nursery."
                )
            return {
                info.filename: packed.read(info).decode("utf-8-sig") for info in packed.infolist() if not info.is_dir()
            }
    except (zipfile.BadZipFile, UnicodeDecodeError, NotImplementedError, RuntimeError, EOFError) as error:
        raise refuse(
            "file", "no_archive", "This is no archive of Aldrip, or it is cut short. Nothing was brought in."
        ) from error


def _json(parts: dict[str, str], name: str) -> Any:
    if name not in parts:
        raise refuse("file", "incomplete", f"{name} is missing from the archive. Nothing was brought in.")
    try:
        return json.loads(parts[name])
    except ValueError as error:
        raise refuse("file", "damaged", f"{name} cannot be read. Nothing was brought in.") from error


class _Reader:
    """One archive on its way in: rows by their names outside, as they come."""

    def __init__(self, parts: dict[str, str], head: dict[str, Any]) -> None:
        self.parts, self.head = parts, head
        self.known: dict[tuple[type[models.Model], str], int] = {}
        self.later: list[tuple[Any, int, list[Any]]] = []

    def bring_in(self) -> BroughtIn:
        self.organisation = self._organisation()
        found = BroughtIn(self.organisation, {})
        self._people()
        self._shipped()
        for model in tables():
            found.counts[label(model)] = self._table(model)
        for model, pk, named in self.later:  # a row's references to its own table, all at once
            model._base_manager.filter(pk=pk).update(
                **{one.attname: self._named(one, name, where) for one, name, where in named}
            )
        found.passwords = self._passwords()
        return found

    def _organisation(self) -> Organisation:
        said = _json(self.parts, "organisation.json")
        row = Organisation()
        for one in Organisation._meta.concrete_fields:
            if one.name not in NOT_ITS_OWN and one.name in said:
                setattr(row, one.attname, self._value(one, str(said[one.name]), "organisation.json"))
        if Organisation.objects.filter(uuid=row.uuid).exists():
            raise refuse(
                "file",
                "here_already",
                f"{row.name} is in this Aldrip already. Bring it into another one, or restore a backup.",
            )
        row.save(force_insert=True)
        return row

    def _people(self) -> None:
        for said in _json(self.parts, "people.json"):
            name = username = str(said["username"])
            number = 1
            # A name that somebody has here stays theirs: a file from elsewhere gives nobody a way in.
            while User.objects.filter(username=username).exists():
                number += 1
                username = f"{name}-{number}"
            user = User(
                username=username,
                first_name=said.get("first_name", ""),
                last_name=said.get("last_name", ""),
                email=said.get("email", ""),
                is_active=bool(said.get("is_active", True)),
            )
            user.set_unusable_password()
            user.save()
            self.known[User, name] = user.pk

    def _shipped(self) -> None:
        """Library rows that it uses: those that ship here; what does not ship any more comes in as its own."""
        ctx = Ctx(self.organisation, None, Role.MANAGER)
        for said in _json(self.parts, "shipped.json"):
            model = KINDS.get(said.get("kind"))
            if model is None:
                raise refuse("file", "damaged", f"shipped.json names an unknown kind “{said.get('kind')}”.")
            row = model._default_manager.filter(organisation=None, slug=said["slug"]).first()
            if row is None:
                write_row(ctx, said["kind"], said["slug"], said["values"], "came with the archive")
                row = model._default_manager.get(organisation=self.organisation, slug=said["slug"])
            self.known[model, f"shipped/{said['slug']}"] = row.pk

    def _table(self, model: type[models.Model]) -> int:
        name = f"tables/{label(model)}.csv"
        if name not in self.parts:
            if label(model) in self.head.get("tables", {}):
                raise refuse("file", "incomplete", f"{name} is missing from the archive. Nothing was brought in.")
            return 0  # an earlier Aldrip had no such table
        lines = list(csv.reader(io.StringIO(self.parts[name])))
        fields = {one.name: one for one in columns(model)}
        header = lines[0] if lines else []
        strange = [title for title in header if title not in fields]
        if strange:
            raise refuse(
                "file", "unknown_column", f"{name} has columns that this Aldrip does not know: {', '.join(strange)}."
            )
        rows = []
        for number, line in enumerate(lines[1:], start=2):
            where = f"{name}, line {number}"
            if len(line) != len(header):
                raise refuse(
                    "file",
                    "damaged",
                    f"{where} has {len(line)} cells instead of {len(header)}. Nothing was brought in.",
                )
            cells = dict(zip(header, line, strict=True))
            rows.append((*self._row(model, cells, fields, where), cells))
        told = self.head.get("tables", {}).get(label(model), len(rows))
        if told != len(rows):
            raise refuse(
                "file", "incomplete", f"{name} has {len(rows):,} rows; {told:,} were written. Nothing was brought in."
            )
        made = model._default_manager.bulk_create([row for row, _, _ in rows], batch_size=2000)
        for row, (_, later, cells) in zip(made, rows, strict=True):
            if later:
                self.later.append((model, row.pk, later))
            if isinstance(row, Known | Event) or label(model) in NATURAL:
                self.known[model, self._name(model, row, cells)] = row.pk
        return len(rows)

    def _name(self, model: type[models.Model], row: models.Model, cells: dict[str, str]) -> str:
        natural = NATURAL.get(label(model))
        return "/".join(cells[name] for name in natural) if natural else name_of(row)

    def _row(
        self, model: type[models.Model], cells: dict[str, str], fields: dict[str, Any], where: str
    ) -> tuple[Any, list[Any]]:
        row, later = model(), []
        if any(one.name == "organisation" for one in model._meta.concrete_fields):
            row.organisation = self.organisation  # type: ignore[attr-defined]
        for title, cell in cells.items():
            one = fields[title]
            if not one.is_relation:
                setattr(row, one.attname, self._value(one, cell, where))
            elif cell and one.related_model is model:
                later.append((one, cell, where))
            elif cell:
                setattr(row, one.attname, self._named(one, cell, where))
        return row, later

    def _value(self, one: Any, cell: str, where: str) -> Any:
        try:
            value = read(one, cell)
        except (ValueError, TypeError, ValidationError) as error:
            raise refuse(
                "file", "damaged", f"{where}: “{cell[:40]}” is no {one.name}. Nothing was brought in."
            ) from error
        if value is None and not one.null and one.has_default():
            return one.get_default()
        return value

    def _named(self, one: Any, name: str, where: str) -> int:
        pk = self.known.get((one.related_model, name))
        if pk is None:
            raise refuse(
                "file",
                "damaged",
                f"{where}: {one.name} names “{name[:60]}”, which is not in the archive. Nothing was brought in.",
            )
        return pk

    def _passwords(self) -> dict[str, str]:
        """New ones for active managers, to be said once; everybody else gets theirs from them."""
        given: dict[str, str] = {}
        for member in self.organisation.members.filter(role=Role.MANAGER, active=True).select_related("user"):
            given[member.user.username] = secrets.token_urlsafe(9)
            member.user.set_password(given[member.user.username])
            member.user.save(update_fields=["password"])
        if not given:
            raise refuse(
                "file",
                "no_manager",
                "No manager is active in this archive, so nobody could sign in. Nothing was brought in.",
            )
        return given
