"""The season line and the morning brief."""

from datetime import date
from typing import Any

from ninja import Schema

from aldrip.accounts.context import Ctx
from aldrip.accounts.routes import Room
from aldrip.season import services

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
