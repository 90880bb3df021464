"""Questions over HTTP: ask about several lines at once, keep, let go, take as an order."""

from datetime import date
from typing import Any

from ninja import Field, Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.schemas import Done
from aldrip.batches import questions
from aldrip.batches.asking_api import answer_out
from aldrip.batches.schemas import AskOut
from aldrip.orders.api import RowIO

room = Room("batches")


class AskedIn(Schema):
    """Rows as they would be ordered; `question`: a kept one whose own hold is no hindrance to it."""

    rows: list[RowIO] = Field(max_length=50)
    question: int | None = None


class AnswerOut(AskOut):
    """The answer to one row. `standing`: what of what stands it would have."""

    words: str
    standing: str
    nothing_sown: bool  # what stands is enough


class AnswersOut(Schema):
    can: bool
    sentence: str
    answers: list[AnswerOut]


class QuestionIn(AskedIn):
    customer: str = Field(max_length=120)
    note: str = Field(default="", max_length=300)
    until: str = Field(default="", max_length=40)
    version: int | None = None


class QuestionOut(Schema):
    """`missing`: what of what was held is there no more. `ended`: its hold is over."""

    id: int
    version: int
    customer: str
    note: str
    words: str
    rows: list[RowIO]
    since: date
    by: str
    until: date | None
    ended: bool
    held: str
    missing: str


class OfQuestionIn(Schema):
    version: int
    order: str = Field(default="", max_length=30)


class TakeQuestionIn(OfQuestionIn):
    """`rows`: what is ordered, where that is not what was kept."""

    rows: list[RowIO] | None = Field(default=None, max_length=50)


class EnteredOut(Schema):
    lines: list[int]


@room.post("/orders/questions/ask", "see", response=AnswersOut)
def ask(ctx: Ctx, body: AskedIn) -> Any:
    """Whether all of these could be taken together; nothing is saved."""
    found = questions.answered(ctx, [row.dict() for row in body.rows], but_for=body.question)
    return {
        "can": all(one.answer.can for one in found),
        "sentence": questions.together(found),
        "answers": [
            {
                **answer_out(one.answer),
                "words": one.words,
                "nothing_sown": one.answer.standing,
                "standing": questions.amount_of(one) if one.standing else "",
            }
            for one in found
        ],
    }


@room.get("/orders/questions", "see", response=list[QuestionOut])
def kept(ctx: Ctx) -> Any:
    """The questions that wait for an answer."""
    return [
        {
            "id": one.question.pk,
            "version": one.question.version,
            "customer": one.question.customer,
            "note": one.question.note,
            "words": one.words,
            "rows": one.question.rows,
            "since": one.question.since,
            "by": one.question.by.get_full_name() if one.question.by else "",
            "until": one.question.until,
            "ended": one.question.until is not None and one.question.until < ctx.today,
            "held": one.held,
            "missing": one.missing,
        }
        for one in questions.kept(ctx)
    ]


@room.post("/orders/questions", "orders.edit", response=Done)
def keep(ctx: Ctx, body: QuestionIn) -> Any:
    """Keep a question, or change one that is kept; what stands is held until a day, where one is given."""
    rows = [row.dict() for row in body.rows]
    made = questions.keep(ctx, questions.Keep(body.customer, rows, body.note, body.until, body.question, body.version))
    held = questions.held_words(made)
    return {"message": f"Kept. Held: {held}." if held else "Kept; nothing is held for it."}


@room.post("/orders/questions/{ref:question_id}/drop", "orders.edit", response=Done)
def drop(ctx: Ctx, question_id: Ref, body: OfQuestionIn) -> Any:
    """Let a question go."""
    gone = questions.drop(ctx, question_id, body.version)
    return {"message": f"The question of {gone.customer} is let go."}


@room.post("/orders/questions/{ref:question_id}/take", "orders.edit", response=EnteredOut)
def take(ctx: Ctx, question_id: Ref, body: TakeQuestionIn) -> Any:
    """Take a question as an order."""
    rows = None if body.rows is None else [row.dict() for row in body.rows]
    return {"lines": questions.take(ctx, question_id, body.version, body.order, rows)}
