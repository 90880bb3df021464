"""Setting up a nursery, its people, its clock."""

from collections.abc import Sequence
from datetime import date, timedelta
from zoneinfo import available_timezones

from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.accounts.models import ClosedDay, Member, Organisation, Role, User
from aldrip.base.errors import FieldError, Refused, refuse
from aldrip.base.words import who

MOST_CLOSED = 120  # days in one go


def check_password(password: str, user: User, field: str = "password") -> None:
    """Raise Refused with the reasons for which a password is too weak."""
    try:
        validate_password(password, user)
    except ValidationError as error:
        raise Refused([FieldError(field, "weak", message) for message in error.messages]) from None


def make_user(*, username: str, password: str, full_name: str) -> User:
    """A new person. Raises Refused for a taken name or a weak password."""
    username = username.strip().lower()
    if not username:
        raise refuse("username", "missing", "Choose a name to sign in with.")
    if User.objects.filter(username=username).exists():
        raise refuse("username", "taken", f"“{username}” is taken; choose another name.")
    first, _, last = full_name.strip().partition(" ")
    user = User(username=username, first_name=first[:150], last_name=last[:150])
    check_password(password, user)
    user.set_password(password)
    user.save()
    return user


def is_empty() -> bool:
    """Whether nobody has set up a nursery yet."""
    return not Organisation.objects.exists()


def check_days(days: Sequence[int], field: str) -> list[int]:
    """Weekdays, Monday 0. Raises Refused."""
    if not days or any(day not in range(7) for day in days):
        raise refuse(field, "out_of_range", "Choose at least one day of the week.")
    return sorted(set(days))


#: House rules that are numbers: the least, the most, and what is said of any other.
WITHIN = {
    "chance_wanted": (0.5, 0.999, "The chance wanted lies between 50 and 99.9 %."),
    "safety_days": (0, 60, "Days in hand lie between 0 and 60."),
    "hours_week": (0, 30_000, "Hours of work in a week lie between 0 and 30,000; 0 where nobody says."),
}


@act
def change_organisation(
    ctx: Ctx,
    *,
    name: str | None = None,
    working_days: Sequence[int] | None = None,
    sowing_days: Sequence[int] | None = None,
    chance_wanted: float | None = None,
    safety_days: int | None = None,
    hours_week: int | None = None,
    timezone: str | None = None,
    part_trays: bool | None = None,
    two_pairs: bool | None = None,
) -> Organisation:
    """Change the house rules of a nursery."""
    organisation = Organisation.objects.select_for_update().get(pk=ctx.organisation.pk)
    if name is not None:
        if not name.strip():
            raise refuse("name", "missing", "A nursery needs a name.")
        organisation.name = name.strip()[:120]
    for field, days in (("working_days", working_days), ("sowing_days", sowing_days)):
        if days is not None:
            setattr(organisation, field, check_days(days, field))
    plain = {
        "hours_week": hours_week,
        "chance_wanted": chance_wanted,
        "safety_days": safety_days,
        "part_trays": part_trays,
        "two_pairs": two_pairs,
    }
    for field, value in plain.items():
        if value is not None:
            least, most, told = WITHIN.get(field, (value, value, ""))
            if not least <= value <= most:
                raise refuse(field, "out_of_range", told)
            setattr(organisation, field, value)
    if timezone is not None:
        organisation.timezone = check_timezone(timezone)
    organisation.save()
    ctx.organisation = organisation
    ctx.record("organisation.change", "Changed the house rules.", organisation)
    return organisation


def check_timezone(name: str) -> str:
    if name not in available_timezones():
        raise refuse("timezone", "unknown", f"“{name}” is no time zone. Write one like Europe/Lisbon.")
    return name


@act
def add_member(ctx: Ctx, *, username: str, password: str, full_name: str, role: str) -> Member:
    """A new person with a role."""
    if role not in Role.values:
        raise refuse("role", "unknown", f"There is no role “{role}”.")
    user = make_user(username=username, password=password, full_name=full_name)
    member = Member.objects.create(user=user, organisation=ctx.organisation, role=role)
    ctx.record("member.add", f"Added {who(user)} as {role}.", member)
    return member


@act
def change_member(ctx: Ctx, member_id: Ref, *, role: str | None = None, active: bool | None = None) -> Member:
    """Another role, or no entry any more. The last manager stays."""
    member = ctx.get(Member, member_id, lock=True)
    if role is not None and role not in Role.values:
        raise refuse("role", "unknown", f"There is no role “{role}”.")
    was_manager = member.role == Role.MANAGER and member.active
    member.role = role or member.role
    member.active = member.active if active is None else active
    still = member.role == Role.MANAGER and member.active
    others = ctx.rows(Member).filter(role=Role.MANAGER, active=True).exclude(pk=member.pk)
    if was_manager and not still and not others.exists():
        raise refuse("role", "last_manager", "This is the last manager; name another one first.")
    member.save()
    ctx.record(
        "member.change", f"{member.user.username} is {member.role}{'' if member.active else ', without entry'}.", member
    )
    return member


@act
def close_days(ctx: Ctx, first: date, last: date, name: str, closed: bool) -> None:
    """Days on which nobody works, both ends among them, or that are worked after all. What is planned already stays."""
    if last < first:
        raise refuse("until", "before_start", f"{last} is before {first}. Swap them, or correct one.")
    if (last - first).days >= MOST_CLOSED:
        raise refuse("until", "out_of_range", f"{(last - first).days + 1} days on end; at most {MOST_CLOSED} at once.")
    days = [first + timedelta(days=n) for n in range((last - first).days + 1)]
    ctx.rows(ClosedDay).filter(day__in=days).delete()
    if closed:
        rows = [ClosedDay(organisation=ctx.organisation, day=day, name=name.strip()[:80]) for day in days]
        ClosedDay.objects.bulk_create(rows)
    when = f"{first}" if first == last else f"{first} to {last}"
    ctx.record("organisation.closed_day", f"{when}: {'closed' if closed else 'worked'}.")


@act
def advance_clock(ctx: Ctx, to: date) -> Organisation:
    """Move the practice date forward."""
    organisation = Organisation.objects.select_for_update().get(pk=ctx.organisation.pk)
    if organisation.practice_date is None:
        raise refuse("to", "no_practice", "This nursery runs on the real date.")
    if to <= organisation.practice_date:
        raise refuse(
            "to", "backwards", f"The practice clock stands on {organisation.practice_date}; it only moves forward."
        )
    if (to - organisation.practice_date).days > 366:
        raise refuse("to", "too_far", "At most a year at a time.")
    organisation.practice_date = to
    organisation.save(update_fields=["practice_date"])
    ctx.organisation = organisation
    ctx.record("clock.advance", f"The practice clock moved to {to}.", organisation)
    return organisation
