"""Customers: all of them, and one with what was handed over to it."""

from datetime import date
from typing import Any

from ninja import Schema

from aldrip.accounts.context import Ctx
from aldrip.accounts.routes import Room
from aldrip.deliveries import customers

room = Room("deliveries")


class CustomerOut(Schema):
    name: str
    orders: int
    open: int
    at_risk: int
    overdue: int
    next_due: date | None
    kept: int
    late: int
    short: int
    cancelled: int
    last_delivery: date | None
    sentence: str
    line_ids: list[int]


class PaperOut(Schema):
    id: int
    kind: str
    withdrawn: bool


class HandedOverOut(Schema):
    id: int
    code: str
    order: str
    delivered_on: date
    words: str
    papers: list[PaperOut]


class OneCustomerOut(CustomerOut):
    handed_over: list[HandedOverOut]


def _out(one: customers.Customer) -> dict[str, Any]:
    names = (name for name in CustomerOut.model_fields if name != "orders")
    return {**{name: getattr(one, name) for name in names}, "orders": len(one.orders)}


@room.get("/customers", "see", response=list[CustomerOut])
def all_customers(ctx: Ctx) -> Any:
    """Every customer, those who wait for something first."""
    return [_out(one) for one in customers.customers(ctx)]


@room.get("/customers/one", "see", response=OneCustomerOut)
def one_customer(ctx: Ctx, name: str = "") -> Any:
    """A customer by name: what is open, how promises were kept, what was handed over with which papers."""
    one = customers.customer(ctx, name)
    return {
        **_out(one),
        "handed_over": [
            {
                "id": note.pk,
                "code": note.code,
                "order": note.order.number,
                "delivered_on": note.delivered_on,
                "words": customers.handed_over_words(note),
                "papers": [
                    {"id": paper.pk, "kind": paper.kind, "withdrawn": paper.withdrawn_at is not None}
                    for paper in note.documents.all()
                ],
            }
            for note in customers.notes_of(ctx, one.orders)
        ],
    }
