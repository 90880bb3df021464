"""Who is asking, for which organisation: the one place where rows are scoped."""

import functools
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, time, timedelta
from typing import Any, Concatenate, ParamSpec, TypeVar
from uuid import UUID
from zoneinfo import ZoneInfo

from django.db import connection, models, transaction
from django.http import HttpRequest
from django.utils import timezone

from aldrip.accounts.events import follow
from aldrip.accounts.journal import Acting, kept, tables_of, told
from aldrip.accounts.models import AuditEvent, ClosedDay, CodeCounter, Member, Organisation, User
from aldrip.accounts.permissions import may
from aldrip.base.errors import Doubtful, Forbidden, NotThere, SignInNeeded
from aldrip.base.requests import touched
from aldrip_core.check_character import MISREAD, with_check
from aldrip_core.working_calendar import WorkingCalendar

# What a code starts with, so that a lot is never read as a batch.
MARKS = {"lot": "L", "delivery": "D", "order": "R", "medium": "M"}

ANYTHING = "*"
LATELY = 8  # weeks for which a list shows what is over, where nobody asks for more
FURTHEST = 520  # weeks
ACTS = 7101  # the number under which acts of an organisation wait for each other

Row = TypeVar("Row", bound=models.Model)
Ref = int | UUID  # a row's number, or its uuid
Given = ParamSpec("Given")
Made = TypeVar("Made")


def one_of(rows: models.QuerySet[Row], ref: Ref | None) -> Row | None:
    """The row of a number or a uuid among these, if it is there."""
    if isinstance(ref, UUID):
        return rows.filter(uuid=ref).first()
    return rows.filter(pk=ref).first() if ref is not None and 0 < ref < 2**63 else None


def act(service: Callable[Concatenate["Ctx", Given], Made]) -> Callable[Concatenate["Ctx", Given], Made]:
    """A service that changes something: one transaction, and one act of an organisation at a time.

    So two acts never take locks in two orders, and a repeat finds what the first one left. Reads never wait.
    """

    @functools.wraps(service)
    def acted(ctx: "Ctx", *args: Given.args, **kwargs: Given.kwargs) -> Made:
        with transaction.atomic(), kept() as acting:
            ctx.lock()
            made = service(ctx, *args, **kwargs)
            if acting is not None:
                _ended(ctx, service, acting)
            return made

    return acted  # type: ignore[return-value]


def _ended(ctx: "Ctx", service: Callable[..., Any], acting: Acting) -> None:
    """Followers hear what an act touched, whoever asked is told, and nothing changes without a word of who did it."""
    follow(ctx)
    tables = tables_of(acting)
    room = service.__module__.split(".")[1]
    if tables and not acting.told:
        ctx.record(f"{room}.{service.__name__}", (service.__doc__ or service.__name__).strip().split("\n")[0])
    touched({room, *(table.split("_")[0] for table in tables)})


@dataclass
class Ctx:
    """The person, the organisation and its clock; passed to every service."""

    organisation: Organisation
    user: User | None
    role: str
    #: What whoever asks said is so, by what was asked; `ANYTHING` where nobody can be asked.
    sure: frozenset[str] = frozenset()
    under: str = ""  # the permission that was asked for; empty where no request came
    said: list[str] = field(default_factory=list)
    request: HttpRequest | None = None  # that brought it; None for jobs and commands

    def doubt(self, ask: str, at: str, question: str | None) -> None:
        """Ask about a value before it is kept; the answer goes into the record. Raises Doubtful until it was given."""
        if question is None:
            return
        if ask not in self.sure and ANYTHING not in self.sure:
            raise Doubtful(question, field=at, ask=ask)
        self.said.append(question)

    @property
    def today(self) -> date:
        """The practice date where one runs, else today at the nursery."""
        return self.organisation.practice_date or datetime.now(ZoneInfo(self.organisation.timezone)).date()

    def since(self, weeks: int) -> date:
        """The day after which what is over is still listed, so many weeks back: at least one, at most ten years."""
        return self.today - timedelta(weeks=max(1, min(weeks, FURTHEST)))

    @property
    def now(self) -> datetime:
        """The organisation's clock: the practice date at the real time of day."""
        if self.organisation.practice_date is None:
            return timezone.now()
        zone = ZoneInfo(self.organisation.timezone)
        clock = datetime.now(zone).time()
        return datetime.combine(self.organisation.practice_date, clock, zone)

    def at(self, day: date) -> datetime:
        """Noon of a day at the nursery, for things recorded by day; the clock's own time today."""
        if day == self.today:
            return self.now
        return datetime.combine(day, time(12), ZoneInfo(self.organisation.timezone)).astimezone(UTC)

    def local(self, moment: datetime) -> datetime:
        """A moment on the nursery's wall clock, so that its date is the day people remember."""
        return moment.astimezone(ZoneInfo(self.organisation.timezone))

    def calendars(self) -> tuple[WorkingCalendar, WorkingCalendar]:
        """Working days, and the narrower sowing days."""
        closed = frozenset(ClosedDay.objects.filter(organisation=self.organisation).values_list("day", flat=True))
        working = frozenset(self.organisation.working_days or range(5))
        sowing = frozenset(self.organisation.sowing_days or working) & working or working
        return WorkingCalendar(working, closed), WorkingCalendar(sowing, closed)

    def rows(self, model: type[Row]) -> models.QuerySet[Row]:
        """The organisation's own rows of a model, and nobody else's."""
        manager: Any = model._default_manager
        return manager.filter(organisation=self.organisation)  # type: ignore[no-any-return]

    def shared_rows(self, model: type[Row]) -> models.QuerySet[Row]:
        """Own rows and those that ship with the library."""
        manager: Any = model._default_manager
        own = models.Q(organisation=self.organisation) | models.Q(organisation=None)
        return manager.filter(own)  # type: ignore[no-any-return]

    def get(self, model: type[Row], ref: Ref | None, *, shared: bool = False, lock: bool = False) -> Row:
        """One row of the organisation, by its uuid or its number. Raises NotThere for anybody else's."""
        rows = self.shared_rows(model) if shared else self.rows(model)
        if lock:
            rows = rows.select_for_update()
        found = one_of(rows, ref)
        if found is None:
            raise NotThere(f"There is no such {model._meta.verbose_name} here.")
        return found

    def lock(self) -> None:
        """Wait until nobody else acts in this organisation. Call inside a transaction, before anything is read."""
        with connection.cursor() as cursor:
            cursor.execute("select pg_advisory_xact_lock(%s, %s)", [ACTS, self.organisation.pk % 2**31])

    def next_code(self, kind: str, count: int = 1) -> list[str]:
        """The next short codes of a kind: year, number, check character. Call inside a transaction.

        Numbers whose check character would be O or I are left out: on a wet label they are 0 and 1.
        """
        counter, _ = CodeCounter.objects.select_for_update().get_or_create(
            organisation=self.organisation, kind=kind, year=self.today.year
        )
        start, found = f"{MARKS.get(kind, '')}{self.today.year % 100:02d}-", list[str]()
        while len(found) < count:
            counter.last += 1
            code = with_check(f"{start}{counter.last:03d}")
            if code[-1] not in MISREAD:
                found.append(code)
        counter.save(update_fields=["last"])
        return found

    def record(
        self, action: str, sentence: str, subject: models.Model | None = None, *, before: Any = None, after: Any = None
    ) -> AuditEvent:
        """Write the one audit event of a service action."""
        if self.said and isinstance(after, dict | None):
            after, self.said = {**(after or {}), "said_to_be_so": self.said}, []
        return AuditEvent.objects.create(
            organisation=self.organisation,
            actor=self.user,
            action=action,
            subject_kind=(subject._meta.model_name or "") if subject is not None else "",
            subject=getattr(subject, "uuid", None),
            sentence=sentence[:400],
            act=told(),
            under=self.under,
            before=before,
            after=after,
            happened_at=self.now,
        )


def context_of(request: HttpRequest, action: str) -> Ctx:
    """The context of a request, or a refusal: not signed in, or the role does not allow it."""
    user = request.user
    if not isinstance(user, User) or not user.is_authenticated:
        raise SignInNeeded("Sign in first.")
    rows = Member.objects.select_related("organisation").filter(user=user, active=True)
    chosen = models.Q(organisation_id=request.session.get("organisation", 0))
    member = rows.order_by(models.Case(models.When(chosen, then=0), default=1), "id").first()
    if member is None:
        raise Forbidden("You belong to no nursery here. Ask a manager to add you.")
    if not may(member.role, action):
        role = Member(role=member.role).get_role_display().lower()
        raise Forbidden(f"A {role} may not do this. Ask a manager.", role=member.role, action=action)
    sure = frozenset(one.strip() for one in request.headers.get("X-Sure", "").split(",") if one.strip())
    return Ctx(member.organisation, user, member.role, sure, action, request=request)
