"""A person's own calendar address: whoever knows it reads the tasks of the house, and nothing else; it can be ended."""

import re
import secrets
from hmac import compare_digest

from django.utils.crypto import salted_hmac
from django.utils.http import base36_to_int, int_to_base36

from aldrip.accounts.context import Ctx, act
from aldrip.accounts.models import Member
from aldrip.base.errors import NotThere

TOKEN = re.compile(r"([0-9a-z]{1,12})-([0-9a-f]{16})-([0-9a-f]{40})")


def _mine(ctx: Ctx, lock: bool = False) -> Member:
    rows = ctx.rows(Member).filter(user=ctx.user)
    return (rows.select_for_update() if lock else rows).get()


def address_of(ctx: Ctx) -> str:
    """The path of this person's calendar; empty where they have none."""
    member = _mine(ctx)
    return f"/api/calendar/{_token(member)}.ics" if member.calendar else ""


def _token(member: Member) -> str:
    mark = salted_hmac(
        "aldrip.calendar", f"{member.pk}.{member.calendar}.{member.uuid}", algorithm="sha256"
    ).hexdigest()
    return f"{int_to_base36(member.pk)}-{member.calendar}-{mark[:40]}"


@act
def make(ctx: Ctx) -> str:
    """An address of one's own; one that was there before reads nothing any more."""
    member = _mine(ctx, lock=True)
    member.calendar = secrets.token_hex(8)  # never one that was: a making that is taken back ends for good
    member.save(update_fields=["calendar"])
    ctx.record("calendar.make", "Made a calendar address of their own.", member)
    return address_of(ctx)


@act
def drop(ctx: Ctx) -> None:
    """End the address; twice is once."""
    member = _mine(ctx, lock=True)
    if member.calendar:
        member.calendar = ""
        member.save(update_fields=["calendar"])
        ctx.record("calendar.drop", "Ended their calendar address.", member)


def read(token: str) -> Ctx:
    """Whose tasks an address reads. Raises NotThere for one that is wrong, ended, or of somebody who left."""
    found = TOKEN.fullmatch(token)
    if found is not None:
        members = Member.objects.select_related("organisation", "user").filter(active=True, user__is_active=True)
        member = members.filter(pk=min(base36_to_int(found[1]), 2**62), calendar=found[2]).first()
        if member is not None and compare_digest(_token(member), token):
            return Ctx(member.organisation, member.user, member.role)
    raise NotThere("There is no such calendar here. Make a new address under The house, Your way in.")
