"""Questions: several lines asked about at once; kept, held for until a day, and taken as an order when the answer comes."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal

from psycopg.types.range import DateRange

from aldrip.accounts.context import Ctx, Ref, act, one_of
from aldrip.accounts.permissions import may
from aldrip.base.errors import Conflict, FieldError, NotThere, Refused, refuse
from aldrip.batches.ground import Ground
from aldrip.batches.models import Held, Question
from aldrip.batches.spare import Gift, Spares, held_for_questions
from aldrip.batches.starting import answer_for, asked_for, plan_lines, read_days, take_place
from aldrip.orders import services as orders
from aldrip.orders.models import OrderLine
from aldrip.orders.rows import ReadRow, check
from aldrip_core.can_we_take_it import Answer
from aldrip_core.units import Quantity, Unit, from_base, plain, unit

SOMEBODY = "somebody"  # who asks without a name
ONE_DAY = timedelta(days=1)
LONGEST_HOLD = 90  # days: what stands longer is of no use to anybody else meanwhile


@dataclass(frozen=True)
class Told:
    """What was asked in one row, the answer, and what of what stands it would have."""

    promise: OrderLine
    answer: Answer
    gifts: Sequence[Gift]

    @property
    def words(self) -> str:
        """“12,000 pak choi, plug, from 7 Sep”."""
        due = self.promise.due.lower
        what = f"{self.promise.crop.name.lower()} {self.promise.line.name if self.promise.line else ''}".strip()
        of = unit(self.promise.unit)
        counted = of.is_pieces and of is not Unit.SEED
        amount = plain(from_base(self.promise.quantity, of)) if counted else Quantity(self.promise.quantity, of).words()
        return f"{amount} {what}, {self.promise.form}, {due:%a} {due.day} {due:%b}"

    @property
    def standing(self) -> Decimal:
        """How much of what stands and is promised to nobody it would have, in its base unit."""
        return sum((gift.quantity for gift in self.gifts), Decimal(0))


def answered(ctx: Ctx, rows: Sequence[Mapping[str, str]], but_for: int | None = None) -> list[Told]:
    """Whether all of these could be taken together: each sees the places, the seed and the plants that those before it would take.

    but_for: a kept question whose own hold is no hindrance to it. Raises Refused with every fault as `rows.N.column`.
    """
    read = _read(ctx, rows)
    ground = Ground(ctx)
    crops = {one.crop.slug for one in read}
    ground.know_crops(crops)
    spares = Spares(ctx, crops=crops, held=held_for_questions(ctx, but_for))
    found, faults = [], []
    for index, one in enumerate(read):
        promise = _promise(one)
        try:
            told, gifts = answer_for(ground, spares, promise, asked_for(ground, promise))
        except Refused as error:
            faults += [FieldError(f"rows.{index}.{e.field or 'form'}", e.code, e.message) for e in error.errors]
            continue
        if told.can and not told.standing:
            take_place(ground, told.plan)
        found.append(Told(promise, told, gifts))
    if faults:
        raise Refused(faults)
    return found


def _read(ctx: Ctx, rows: Sequence[Mapping[str, str]]) -> list[ReadRow]:
    checked = check(ctx, [{**row, "order": "", "customer": row.get("customer") or SOMEBODY} for row in rows])
    # Whoever asks writes no number and perhaps no name: what is said of them is said of the row.
    told = [(f.row, "crop" if f.column in ("order", "customer") else f.column, f) for f in checked.faults]
    faults = [FieldError(f"rows.{row}.{column}", f.code, f.message) for row, column, f in told]
    read = [one for one in checked.read if one is not None]
    for index, one in enumerate(checked.read):
        if one is not None and one.due.end <= ctx.today:
            faults.append(FieldError(f"rows.{index}.due", "past", "These days are over. Ask for a day to come."))
    if not rows:
        faults.append(FieldError("rows", "empty", "What is asked for?"))
    if faults:
        raise Refused(faults)
    return read


def _promise(read: ReadRow) -> OrderLine:
    return OrderLine(
        crop=read.crop,
        line=read.line,
        form=read.form,
        container=read.container,
        quantity=read.quantity.base,
        unit=read.quantity.unit.words,
        due=DateRange(read.due.start, read.due.end),
        seed_class=read.seed_class,
        standard_id=read.standard_id,
    )


def amount_of(told: Told) -> str:
    """What of what stands it would have, in words."""
    return Quantity(told.standing, unit(told.promise.unit)).words()


def sentence_of(answer: Answer) -> str:
    """The answer to one row, in a sentence."""
    plan = answer.plan
    if answer.standing:
        return "Yes, of what stands or is planned and is promised to nobody: nothing more has to be sown."
    if not answer.can:
        return "Not as asked."
    sow = plan.sow_on
    amount = f"{plan.quantities.trays:,} trays" if plan.quantities.trays else f"{plan.quantities.start:,}"
    if plan.request.method.start_unit is Unit.SQUARE_METRE:
        amount = f"{plan.quantities.start / 10_000:,.2f} ha"
    first = f"{answer.taken:,.0f} of what stands or is planned, and " if answer.taken else ""
    seed = ", if the seed is there" if answer.has_limit("seed") else ""
    return f"Yes{seed}: {first}sow {amount} on {sow:%a} {sow.day} {sow:%b}, week {sow.isocalendar().week}."


def together(found: Sequence[Told]) -> str:
    """The answer to all rows, in a sentence."""
    if len(found) == 1:
        return sentence_of(found[0].answer)
    lacking = [one for one in found if not one.answer.can]
    if not lacking:
        seed = ", if the seed is there" if any(one.answer.has_limit("seed") for one in found) else ""
        return f"Yes, {'both' if len(found) == 2 else f'all {len(found)}'} together{seed}."
    names = ", ".join(one.promise.crop.name.lower() for one in lacking[:4])
    if len(lacking) == len(found):
        return "Neither of the two as asked." if len(found) == 2 else f"None of the {len(found)} as asked."
    return f"{len(found) - len(lacking)} of the {len(found)} as asked; not {names}."


@dataclass(frozen=True)
class Keep:
    """A question as it is to be kept. `until`: a day as typed; what stands for it is held until then, where it is given."""

    customer: str
    rows: Sequence[Mapping[str, str]]
    note: str = ""
    until: str = ""
    question: int | None = None
    version: int | None = None


@act
def keep(ctx: Ctx, asked: Keep) -> Question:
    """Keep a question, or change one; hold what stands for it where a day is given. Raises Refused, Conflict."""
    if not asked.customer.strip():
        raise refuse("customer", "missing", "Who asks? Write a name, so that the question is found again.")
    until = _until(ctx, asked.until)
    question = Question(organisation=ctx.organisation, by=ctx.user, since=ctx.today)
    if asked.question is not None:
        question = _open(ctx, asked.question, asked.version)
        question.version += 1
    found = answered(ctx, asked.rows, but_for=question.pk)
    if until is not None and not any(one.gifts for one in found):
        told = "Nothing of this stands and is promised to nobody, so nothing can be held. Keep it without a day."
        raise refuse("until", "nothing_stands", told)
    question.customer, question.note, question.until = asked.customer.strip(), asked.note.strip(), until
    question.rows = [_dated(row, one.promise) for row, one in zip(asked.rows, found, strict=True)]
    question.save()
    question.held.all().delete()
    if until is not None:
        _hold(question, found)
    words = f"; held until {until:%a} {until.day} {until:%b}: {held_words(question)}" if until else ""
    ctx.record(
        "orders.question",
        f"Kept the question of {question.customer}: {'; '.join(one.words for one in found[:4])}{words}.",
        question,
    )
    return question


def _dated(row: Mapping[str, str], promise: OrderLine) -> dict[str, str]:
    """A row as it was written, but for its days: “week 30” is another week a year later."""
    days = {"due": promise.due.lower.isoformat(), "until": (promise.due.upper - ONE_DAY).isoformat()}
    return {name: text for name, text in {**row, **days}.items() if text and name not in ("order", "customer")}


def _until(ctx: Ctx, typed: str) -> date | None:
    if not typed.strip():
        return None
    last: date = read_days(ctx, typed, "until").last
    if last < ctx.today:
        raise refuse("until", "past", f"{typed} is over. Hold it until today or a day to come.")
    if (last - ctx.today).days > LONGEST_HOLD:
        most = ctx.today + timedelta(days=LONGEST_HOLD)
        told = f"{(last - ctx.today).days} days are too long to hold plants for a question; until {most:%a} {most.day} {most:%b} at the most."
        raise refuse("until", "too_long", told)
    return last


def _hold(question: Question, found: Sequence[Told]) -> None:
    wanted: dict[tuple[str, int], Decimal] = {}
    for one in found:
        for gift in one.gifts:
            amount = gift.spare.of_line(one.promise, gift.quantity)
            wanted[gift.spare.key] = wanted.get(gift.spare.key, Decimal(0)) + amount
    Held.objects.bulk_create(
        Held(question=question, quantity=amount, **{f"{kind}_id": pk}) for (kind, pk), amount in wanted.items()
    )


def _open(ctx: Ctx, ref: Ref, version: int | None) -> Question:
    question = one_of(ctx.rows(Question).select_for_update(of=("self",)), ref)
    if question is None:
        raise NotThere("There is no such question here.")
    if question.state != Question.State.ASKED:
        raise refuse("state", "closed", f"This question is {question.get_state_display()} already.")
    if version is not None and question.version != version:
        raise Conflict("Somebody else changed this question meanwhile. Look at it again.", version=question.version)
    return question


@act
def drop(ctx: Ctx, ref: Ref, version: int | None = None) -> Question:
    """Let a question go; what was held for it is free again. Raises Refused, Conflict."""
    question = _open(ctx, ref, version)
    question.state, question.version = Question.State.DROPPED, question.version + 1
    question.save()
    ctx.record("orders.drop_question", f"Let the question of {question.customer} go.", question)
    return question


@act
def take(
    ctx: Ctx, ref: Ref, version: int | None = None, order: str = "", rows: Sequence[Mapping[str, str]] | None = None
) -> list[int]:
    """Take a question as an order: its lines are planned, first of what was held for it. Raises Refused, Conflict.

    rows: what is ordered, where that is not what was kept.
    """
    question = _open(ctx, ref, version)
    rows = [{**row, "order": order.strip(), "customer": question.customer} for row in rows or question.rows]
    _read(ctx, rows)  # days that are over meanwhile are agreed anew, not ordered
    question.state, question.version = Question.State.ORDERED, question.version + 1
    question.save()  # what it held is free for its own lines
    made = orders.take_in(ctx, rows)
    if may(ctx.role, "batches.plan"):
        plan_lines(ctx, made)
    ctx.record("orders.take_question", f"The question of {question.customer} is an order now.", question)
    return made


def _amount(held: Held, quantity: Decimal) -> str:
    named = held.batch.method.unit if held.batch is not None else held.lot.unit if held.lot is not None else "plants"
    return Quantity(quantity, unit(named)).words()


def _words(held: Held) -> str:
    code = held.batch.code if held.batch is not None else held.lot.code if held.lot is not None else ""
    return f"{_amount(held, held.quantity)} of {code}"


def held_words(question: Question) -> str:
    """“4,200 plants of 27-031 and 800 plants of L27-004”."""
    return " and ".join(_words(one) for one in question.held.all())


def _when(row: Mapping[str, str], year: int) -> str:
    first, last = (date.fromisoformat(row[name]) for name in ("due", "until"))
    more = f" {first.year}" if first.year != year else ""
    if first.weekday() == 0 and last - first == timedelta(days=6):
        return f"week {first.isocalendar().week}{more}"
    till = f" to {last.day} {last:%b}" if last != first else ""
    return f"{first.day} {first:%b}{till}{more}"


@dataclass(frozen=True)
class Kept:
    """A kept question, and what of what was held for it is there still."""

    question: Question
    held: str
    missing: str

    @property
    def words(self) -> str:
        """What it asks for: “300 bulb fennel for week 31”."""
        year = self.question.since.year
        parts = [
            f"{row.get('quantity', '')} {row.get('crop', '').lower()} for {_when(row, year)}"
            for row in self.question.rows
        ]
        return "; ".join(parts[:3]) + (f" and {len(parts) - 3} more" if len(parts) > 3 else "")


def kept(ctx: Ctx) -> list[Kept]:
    """The questions that wait for an answer, the ones whose hold ends first at the head."""
    found = list(
        ctx.rows(Question)
        .filter(state=Question.State.ASKED)
        .select_related("by")
        .prefetch_related("held__batch__crop", "held__batch__method", "held__lot__crop")
    )
    holding = [one for one in found if one.until is not None and one.until >= ctx.today]
    there = _there(ctx, holding)
    far = date.max
    return sorted(
        (Kept(one, held_words(one), there.get(one.pk, "")) for one in found),
        key=lambda one: (one.question.until or far, one.question.since, one.question.pk),
    )


def _there(ctx: Ctx, holding: Sequence[Question]) -> dict[int, str]:
    """What is lacking of what was held, by question: plants die, and lots are put on hold."""
    own = [held.batch or held.lot for one in holding for held in one.held.all()]
    crops = {one.crop.slug for one in own if one is not None}
    if not crops:
        return {}
    free = {one.key: one.free for one in Spares(ctx, crops=crops, held={}).found}
    lacking: dict[int, str] = {}
    for question in sorted(holding, key=lambda one: (one.since, one.pk)):
        for held in question.held.all():
            key = ("batch", held.batch_id) if held.batch_id is not None else ("lot", held.lot_id or 0)
            left = min(held.quantity, max(Decimal(0), free.get(key, Decimal(0))))
            free[key] = free.get(key, Decimal(0)) - left
            if left < held.quantity:
                lacking[question.pk] = f"of {_words(held)} only {_amount(held, left)} are there still"
    return lacking
