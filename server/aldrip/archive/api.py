"""The whole house as a file, for a manager; and the first run from one."""

import io
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.utils.text import slugify
from ninja import File, Form, Router, Schema
from ninja.files import UploadedFile
from ninja.utils import check_csrf

from aldrip.accounts.context import Ctx
from aldrip.accounts.routes import Room
from aldrip.archive import services
from aldrip.archive.reading import BroughtIn, read_archive
from aldrip.base.errors import Forbidden

room = Room("archive")
open_router = Router(tags=["first run"])


class PasswordOut(Schema):
    username: str
    password: str


class BroughtInOut(Schema):
    name: str
    rows: int
    managers: list[PasswordOut]  # said once: they are kept nowhere


def _told(found: BroughtIn) -> dict[str, Any]:
    managers = [{"username": name, "password": password} for name, password in found.passwords.items()]
    return {"name": found.organisation.name, "rows": sum(found.counts.values()), "managers": managers}


@room.get("/archive", "accounts.manage")
def archive(ctx: Ctx) -> HttpResponse:
    """Everything that Aldrip knows of the house, as a zip of JSON and CSV."""
    answer = HttpResponse(services.archive_of(ctx), content_type="application/zip")
    answer["Content-Disposition"] = f'attachment; filename="{slugify(ctx.organisation.name)}-{ctx.today}.zip"'
    answer["Cache-Control"] = "no-store"
    return answer


@room.post("/archive", "accounts.manage", response=BroughtInOut)
def bring_in(ctx: Ctx, file: File[UploadedFile]) -> Any:
    """Bring another nursery in beside this one; its managers get new passwords, and nobody of this house sees it."""
    return _told(read_archive(io.BytesIO(file.read())))


@open_router.post("/setup/archive", response=BroughtInOut)
def begin_with(request: HttpRequest, file: File[UploadedFile], word: Form[str] = "") -> Any:
    """First run of an empty Aldrip from an archive; refused once a nursery is there."""
    if check_csrf(request):
        raise Forbidden("This page is out of date. Reload it and try again.")
    return _told(services.begin_with(io.BytesIO(file.read()), word))
