"""A person's own keys, and what a manager does for somebody who lost theirs."""

import io
from typing import Any

import segno
from django.contrib.auth import update_session_auth_hash
from django.http import HttpRequest
from ninja import Router, Schema
from ninja.utils import check_csrf

from aldrip.accounts import calendars, people
from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room, request_of
from aldrip.base.errors import Forbidden
from aldrip.base.schemas import Done
from aldrip.base.words import who

open_router = Router(tags=["session"])
room = Room("people")


class AccountOut(Schema):
    username: str
    full_name: str
    second: bool  # whether a second factor is asked for
    calendar: str  # path of the calendar of tasks; empty where there is none


@room.get("/account", "see", response=AccountOut)
def account(ctx: Ctx) -> Any:
    """What somebody may know of their own way in."""
    assert ctx.user is not None
    return {
        "username": ctx.user.username,
        "full_name": who(ctx.user),
        "second": bool(ctx.user.totp),
        "calendar": calendars.address_of(ctx),
    }


class PasswordIn(Schema):
    password: str
    fresh: str


@room.post("/account/password", "see", response=Done)
def change_password(ctx: Ctx, body: PasswordIn) -> Any:
    """Another password; this session goes on, every other one of this person ends."""
    user = people.change_password(ctx, password=body.password, fresh=body.fresh)
    update_session_auth_hash(request_of(ctx), user)
    return {"message": "Your password is changed. Other devices must sign in anew."}


@room.post("/account/sign-out-elsewhere", "see", response=Done)
def end_sessions(ctx: Ctx) -> Any:
    user = people.end_sessions(ctx)
    update_session_auth_hash(request_of(ctx), user)
    return {"message": "Every other device must sign in anew."}


@room.post("/account/calendar", "see", response=Done)
def make_calendar(ctx: Ctx) -> Any:
    """A private address from which a calendar program reads the tasks; the one before ends."""
    calendars.make(ctx)
    return {"message": "Give this address to your calendar. Whoever has it reads the tasks, without signing in."}


@room.post("/account/calendar/drop", "see", response=Done)
def drop_calendar(ctx: Ctx) -> Any:
    calendars.drop(ctx)
    return {"message": "The address is ended: no calendar reads from it any more."}


class SecondOut(Schema):
    secret: str
    picture: str  # SVG for the device's camera


@room.post("/account/second/offer", "see", response=SecondOut)
def offer_second(ctx: Ctx) -> Any:
    """A fresh secret for a device that makes codes; kept once a code of it was typed."""
    offered = people.offer_second(ctx)
    drawn = io.BytesIO()
    segno.make(offered.address, error="m").save(drawn, kind="svg", scale=4, border=2, xmldecl=False, svgns=True)
    return {"secret": offered.secret, "picture": drawn.getvalue().decode()}


class SecondKeyIn(Schema):
    password: str
    secret: str
    code: str


@room.post("/account/second", "see", response=Done)
def keep_second(ctx: Ctx, body: SecondKeyIn) -> Any:
    people.keep_second(ctx, password=body.password, secret=body.secret, code=body.code)
    return {"message": "From now on six digits of that device are asked for when you sign in."}


class OwnPasswordIn(Schema):
    password: str


@room.post("/account/second/drop", "see", response=Done)
def drop_second(ctx: Ctx, body: OwnPasswordIn) -> Any:
    people.drop_second(ctx, password=body.password)
    return {"message": "The password alone is asked for again."}


class LinkOut(Schema):
    username: str
    full_name: str
    path: str
    picture: str


@room.post("/members/{ref:member_id}/link", "accounts.manage", response=LinkOut)
def link_for(ctx: Ctx, member_id: Ref) -> Any:
    """A link to set a password with, to be printed or shown: it opens once, and for a day."""
    user, link = people.link_for(ctx, member_id)
    path = f"/password/{link}"
    drawn = io.BytesIO()
    address = request_of(ctx).build_absolute_uri(path)
    segno.make(address, error="m").save(drawn, kind="svg", scale=4, border=2, xmldecl=False, svgns=True)
    return {"username": user.username, "full_name": who(user), "path": path, "picture": drawn.getvalue().decode()}


@room.post("/members/{ref:member_id}/unlock", "accounts.manage", response=Done)
def unlock(ctx: Ctx, member_id: Ref) -> Any:
    return {"message": f"{who(people.unlock(ctx, member_id))} may try again."}


@room.post("/members/{ref:member_id}/sign-out", "accounts.manage", response=Done)
def sign_out(ctx: Ctx, member_id: Ref) -> Any:
    return {"message": f"{who(people.sign_out(ctx, member_id))} must sign in anew on every device."}


@room.post("/members/{ref:member_id}/second/drop", "accounts.manage", response=Done)
def take_second(ctx: Ctx, member_id: Ref) -> Any:
    return {"message": f"{who(people.take_second(ctx, member_id))} signs in with the password alone."}


class SetByLinkIn(Schema):
    link: str
    password: str


@open_router.post("/password", response=Done)
def set_by_link(request: HttpRequest, body: SetByLinkIn) -> Any:
    """Set a password with a manager's link."""
    if check_csrf(request):
        raise Forbidden("This page is out of date. Reload it and try again.")
    user = people.set_by_link(body.link, body.password)
    return {"message": f"The password of {user.username} is set. Sign in with it."}
