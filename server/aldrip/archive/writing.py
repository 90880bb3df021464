"""Write an organisation as an archive."""

import csv
import io
import json
import zipfile
from collections.abc import Iterator
from typing import Any, BinaryIO

from django.db import models
from django.utils import timezone

from aldrip.accounts.models import Organisation, User
from aldrip.archive.tables import NOT_ITS_OWN, columns, label, name_of, references, rows_of, tables, written
from aldrip.methods.models import Method, Shared
from aldrip.methods.resolver import kind_of, plain_values

FORMAT, VERSION = "aldrip archive", 1
STAMP = (1980, 1, 1, 0, 0, 0)  # the same content is the same file
ABOUT = """This is everything that Aldrip knows of one nursery.

archive.json      what this is, its version, how many rows each table has
organisation.json the nursery itself
people.json       who worked in it; no passwords: whoever brings it in gets new ones for its managers
shipped.json      rows of the library that ships which it uses, with what they said
tables/*.csv      one file a table: UTF-8, comma, a header; references name a row by its uuid, by the row it
                  belongs to and its key (batch/stage), by user name, or shipped/slug for the library that ships
                  Days are 2027-03-01, times 2027-03-01T06:00:00+00:00, spans of days ["first","day after the last"].
                  Amounts are in base units: g, m², trays, pieces. Empty is “nothing said”; lists are JSON.

Bring it into an Aldrip with  ./aldrip unarchive FILE,  or on its first page.
"""


def _put(file: zipfile.ZipFile, name: str, text: str) -> None:
    info = zipfile.ZipInfo(name, STAMP)
    info.compress_type = zipfile.ZIP_DEFLATED
    info.external_attr = 0o600 << 16
    file.writestr(info, text)


def _json(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False, indent=1, sort_keys=True) + "\n"


def write_archive(organisation: Organisation, to: BinaryIO) -> dict[str, int]:
    """Write everything of an organisation; gives how many rows each table had. Call inside one snapshot."""
    counts: dict[str, int] = {}
    used = _Used()
    with zipfile.ZipFile(to, "w") as file:
        _put(file, "README.txt", ABOUT)
        for model in tables():
            text = io.StringIO()
            out = csv.writer(text, lineterminator="\n")
            fields = columns(model)
            out.writerow([field.name for field in fields])
            counts[label(model)] = 0
            for row in rows_of(model, organisation):
                counts[label(model)] += 1
                out.writerow([used.name(getattr(row, f.name)) if f.is_relation else written(f, row) for f in fields])
            _put(file, f"tables/{label(model)}.csv", text.getvalue())
        _put(file, "organisation.json", _json(_own(organisation)))
        _put(file, "people.json", _json([_person(user) for user in used.people()]))
        _put(file, "shipped.json", _json(list(used.shipped())))
        head = {
            "format": FORMAT,
            "version": VERSION,
            "made_at": timezone.now().isoformat(),
            "name": organisation.name,
            "tables": counts,
        }
        _put(file, "archive.json", _json(head))
    return counts


class _Used:
    """People and shipped rows that an archive refers to."""

    def __init__(self) -> None:
        self.users: dict[str, User] = {}
        self.rows: dict[tuple[str, str], Shared] = {}

    def name(self, row: models.Model | None) -> str:
        if row is None:
            return ""
        if isinstance(row, User):
            self.users[row.username] = row
        elif isinstance(row, Shared) and row.organisation_id is None:
            self._use(row)
        return name_of(row)

    def _use(self, row: Shared) -> None:
        """A shipped row, after those that it refers to itself."""
        key = (kind_of(row), row.slug)
        if key in self.rows:
            return
        mine: list[models.Model] = [row, *(row.stages.all() if isinstance(row, Method) else ())]
        for one in mine:
            for field in references(type(one)):
                other = getattr(one, field.name)
                if isinstance(other, Shared) and other != row:
                    self._use(other)
        self.rows[key] = row

    def people(self) -> list[User]:
        return [self.users[name] for name in sorted(self.users)]

    def shipped(self) -> Iterator[dict[str, Any]]:
        for (kind, slug), row in self.rows.items():
            yield {"kind": kind, "slug": slug, "edition": row.edition, "values": plain_values(row)}


def _own(organisation: Organisation) -> dict[str, Any]:
    fields = [field for field in organisation._meta.concrete_fields if field.name not in NOT_ITS_OWN]
    return {field.name: written(field, organisation) for field in fields}


def _person(user: User) -> dict[str, Any]:
    return {
        "username": user.username,
        "first_name": user.first_name,
        "last_name": user.last_name,
        "email": user.email,
        "is_active": user.is_active,
    }
