"""The season line and the morning brief."""

from datetime import date, datetime
from typing import Any

from django.http import FileResponse
from ninja import Schema

from aldrip.accounts.context import Ctx
from aldrip.accounts.routes import Room
from aldrip.base.schemas import Done
from aldrip.season import backups, services

room = Room("season")


class TickOut(Schema):
    day: date
    count: int


class FlagOut(Schema):
    by: date
    title: str
    link: str
    room: str


class DecisionOut(Schema):
    room: str
    code: str
    about: str
    by: date | None
    title: str
    sentence: str
    link: str
    action: str
    effect: str


class RoomOut(Schema):
    room: str
    waiting: int
    line: str


class LastOut(Schema):
    id: int
    sentence: str
    can_undo: bool
    can_take_back: bool


class SeasonLineOut(Schema):
    today: date
    start: date
    end: date
    fullness: list[float]
    ticks: list[TickOut]
    flags: list[FlagOut]
    decisions: list[DecisionOut]
    rooms: list[RoomOut]
    last: LastOut | None


@room.get("/season-line", "see", response=SeasonLineOut)
def season_line(ctx: Ctx) -> Any:
    return services.season_line(ctx)


class BackupOut(Schema):
    """One backup; `words` says why it failed and is empty where it is good; `rows` were found in its restored copy."""

    at: datetime
    why: str
    file: str
    bytes: int
    rows: int
    seconds: float
    words: str


class BackupsOut(Schema):
    taken_here: bool
    where: str
    asked: bool
    old: bool
    failed: str
    newest: datetime | None
    rows: list[BackupOut]


@room.get("/backups", "accounts.manage", response=BackupsOut)
def backups_of(ctx: Ctx) -> Any:
    """The backups that the launcher took and verified by restoring them."""
    return backups.told(ctx)


@room.post("/backups", "accounts.manage", response=Done)
def ask_for_one(ctx: Ctx) -> Any:
    """Ask for a backup now; it is taken beside the work."""
    backups.ask()
    return {"message": "It is taken now; in a moment it stands in the list."}


@room.get("/backups/{name}", "accounts.manage")
def download(ctx: Ctx, name: str) -> FileResponse:
    """A backup as a file: everything of every nursery here, to be kept where nobody else reads it."""
    path = backups.file_of(name)
    answer = FileResponse(path.open("rb"), as_attachment=True, filename=name, content_type="application/octet-stream")
    answer["Cache-Control"] = "no-store"
    return answer
