"""How sure all promises are together: what batches have in common is drawn in common."""

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from aldrip.accounts.context import Ctx
from aldrip.base.words import chance, plural
from aldrip.batches.forecasting import Group, groups, in_stock_then
from aldrip.batches.models import Batch
from aldrip.batches.saved import Saved
from aldrip.orders.models import OrderLine
from aldrip.places.models import Place
from aldrip_core.risk import (
    FUTURES,
    OF_A_HOUSE_WEEK,
    OF_A_LOT,
    OF_THE_SEASON,
    Cause,
    Drawing,
    Drawn,
    Effect,
    Promise,
    draw,
)
from aldrip_core.stages import Trait

DRAWS = 4_000_000  # of promises × futures, so that an answer takes a second or two however many there are
FEWEST = 1000  # futures
MOST_CAUSES, MOST_WORSE, MOST_BARS = 6, 8, 40
HOPELESS = 0.01  # a chance under which a promise is as good as missed
TELLS = 0.05  # lines more that a cause must cost to be told
SEASON = "season"


@dataclass(frozen=True)
class Together:
    """All open promises that something serves, drawn together."""

    drawing: Drawing
    groups: tuple[Group, ...]
    unserved: int


def together(ctx: Ctx) -> Together:
    """Draw every open promise at once. Lines that nothing serves are counted, not drawn."""
    # In an order that hangs on no number of a row: the futures of a nursery are the same wherever it is kept.
    found = sorted((group for group in groups(ctx, everything=True) if group.lines), key=_first)
    served = {line.pk for group in found for line in group.lines}
    unserved = ctx.rows(OrderLine).filter(state=OrderLine.State.OPEN).exclude(pk__in=served).count()
    promises = [Promise(at, group.needed, _stocks(group), len(group.lines)) for at, group in enumerate(found)]
    futures = max(FEWEST, min(FUTURES, DRAWS // max(1, len(promises))))
    return Together(draw(promises, futures=futures), tuple(found), unserved)


def _by_day(line: OrderLine) -> tuple[date, str, int]:
    return line.due.lower, line.order.number, line.number


def _first(group: Group) -> tuple[tuple[date, str, int], str]:
    return min(map(_by_day, group.lines)), group.form


def _lines(group: Group) -> list[OrderLine]:
    return sorted(group.lines, key=_by_day)


def _stocks(group: Group) -> tuple[Drawn, ...]:
    return tuple(
        Drawn(stock.units, stock.remaining, causes_of(one.saved), stock.multiply)
        for one in sorted(group.batches, key=lambda one: one.saved.batch.code)
        for stock in in_stock_then(group.lines, one.saved, one.ready, one.stocks)
    )


def causes_of(saved: Saved) -> tuple[Cause, ...]:
    """What a batch hangs on together with others: its seed lot until it was counted, its house and week, the season."""
    if saved.batch.state not in (Batch.State.PLANNED, Batch.State.SOWN):
        return ()
    found = []
    emerges = saved.with_trait(Trait.EMERGES)
    if saved.batch.lot_id is not None and (emerges is None or emerges.counted_share is None):
        found.append(Cause(("lot", saved.batch.lot_id), OF_A_LOT))
    ahead = [stage for stage in saved.stages.values() if stage.actual_end is None and stage.place_id is not None]
    if ahead:
        longest = max(ahead, key=lambda stage: stage.planned.upper - stage.planned.lower)
        middle = longest.planned.lower + (longest.planned.upper - longest.planned.lower) / 2
        found.append(Cause(("house", longest.place_id, middle - timedelta(days=middle.weekday())), OF_A_HOUSE_WEEK))
    return (*found, Cause(SEASON, OF_THE_SEASON))


def told(ctx: Ctx) -> dict[str, Any]:
    """How sure all of it is, by customer, and what would cost most."""
    found = together(ctx)
    # What cannot be kept as it stands is said by name, and would hide how sure the rest is.
    lost = [at for at in range(len(found.groups)) if found.drawing.chance(at) < HOPELESS]
    drawing = found.drawing.only([at for at in range(len(found.groups)) if at not in lost])
    missed = drawing.missed()
    lots = dict(
        Batch.objects.filter(organisation=ctx.organisation, lot__isnull=False).values_list("lot_id", "lot__code")
    )
    places = dict(ctx.rows(Place).values_list("pk", "name"))
    effects = sorted((drawing.effect(key) for key in drawing.causes), key=lambda one: one.usual - one.missed)
    lines = sum(one.lines for one in drawing.promises)
    return {
        "sentence": _sentence(lines, lines + sum(len(found.groups[at].lines) for at in lost) + found.unserved, drawing),
        "lines": lines,
        "lost": [
            _line(line, found.drawing.chance(at), found.drawing.chance(at))
            for at in lost
            for line in _lines(found.groups[at])
        ],
        "unserved": found.unserved,
        "futures": int(drawing.met.shape[1]),
        "all": drawing.of_all(),
        "apart": drawing.apart(),
        "missed": [*missed[:MOST_BARS], *([sum(missed[MOST_BARS:])] if len(missed) > MOST_BARS else [])],
        "expected": sum(n * share for n, share in enumerate(missed)),
        "customers": _customers(found),
        "causes": [
            {
                "words": _named(one.key, lots, places),
                "missed": one.missed,
                "usual": one.usual,
                "worse": _worse(found, one),
            }
            for one in effects[:MOST_CAUSES]
            if one.missed - one.usual > TELLS
        ],
    }


def _sentence(lines: int, of: int, drawing: Drawing) -> str:
    if not lines:
        return "No open order line has a batch or stock with which it could be kept."
    most = max(range(len(drawing.missed())), key=lambda n: drawing.missed()[n])
    usual = "that none is missed" if most == 0 else f"that {most} {'is' if most == 1 else 'are'} missed"
    sure = chance(drawing.of_all())
    if of > lines:
        return f"{lines:,} of {plural(of, 'open line')} can be kept as things stand: all of those with a chance of {sure}; most likely is {usual}."
    if lines == 1:
        return f"The one open line is kept with a chance of {sure}."
    return f"All {lines:,} open lines are kept with a chance of {sure}; most likely is {usual}."


def _named(key: Any, lots: Mapping[int, str], places: Mapping[int, str]) -> str:
    if key == SEASON:
        return "the season is bad, with heat, cold or little light over everything"
    if key[0] == "lot":
        return f"seed lot {lots.get(key[1], '')} comes up badly"
    monday: date = key[2]
    return f"something goes wrong in {places.get(key[1], 'a place')} about week {monday.isocalendar().week}"


def _line(line: OrderLine, then: float, usual: float) -> dict[str, Any]:
    number = f"{line.order.number}/{line.number}"
    return {"line_id": line.pk, "number": number, "customer": line.order.customer, "then": then, "usual": usual}


def _worse(found: Together, effect: Effect) -> list[dict[str, Any]]:
    return [
        _line(line, then, usual)
        for at, then, usual in effect.worse
        if isinstance(at, int)
        for line in _lines(found.groups[at])
    ][:MOST_WORSE]


def _customers(found: Together) -> list[dict[str, Any]]:
    own: dict[str, set[int]] = defaultdict(set)
    lines: dict[str, list[tuple[float, OrderLine]]] = defaultdict(list)
    for at, group in enumerate(found.groups):
        for line in _lines(group):
            own[line.order.customer].add(at)
            lines[line.order.customer].append((found.drawing.chance(at), line))
    rows = []
    for name, which in own.items():
        least, line = min(lines[name], key=lambda one: one[0])
        rows.append(
            {
                "name": name,
                "lines": len(lines[name]),
                "all": found.drawing.of_all(sorted(which)),
                "apart": found.drawing.apart(sorted(which)),
                "least": least,
                "least_line_id": line.pk,
                "least_number": line.order.number,
            }
        )
    return sorted(rows, key=lambda row: (row["all"], row["name"]))
