"""The forecast: counts move what batches will give, the chance of every promise, and what stands against it."""

from collections import defaultdict
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from decimal import Decimal
from typing import Any

from django.db.models import OuterRef, Q, QuerySet, Subquery, Sum

from aldrip.accounts.context import Ctx
from aldrip.base.bulk import json_value, update_rows
from aldrip.batches.aside import Kept, kept_for
from aldrip.batches.many import saved_many
from aldrip.batches.models import Allocation, Batch, BatchInput, SetAside, Yield
from aldrip.batches.overdue import ready_on
from aldrip.batches.saved import InHand, Saved, losses_of, rate_of, unit_of
from aldrip.batches.waiting import refresh_waiting
from aldrip.diary.models import Count
from aldrip.lots.models import Status
from aldrip.methods.services import classes_filling
from aldrip.orders.models import OrderLine
from aldrip.orders.promised import in_grams
from aldrip_core.distributions import Spread, product
from aldrip_core.forecast import Forecast, Stock, forecast
from aldrip_core.holding import LONG, Held, held
from aldrip_core.problems import Problem, hopeless_season, read
from aldrip_core.stages import Trait
from aldrip_core.standing_stock import Seen, Standing, stocks_of
from aldrip_core.units import Quantity, from_base, unit

#: Below this chance a promise that is late in nothing is told to be short.
HARDLY = 0.5
NOTHING = InHand()
LIVE = (Batch.State.PLANNED, Batch.State.SOWN, Batch.State.READY)


@dataclass(frozen=True)
class Standings:
    """What one batch stands at for a form, the day on which it is ready, and how much of it is lost."""

    saved: Saved
    stocks: tuple[Stock, ...]
    ready: date
    lost: int


@dataclass(frozen=True)
class Group:
    """Batches and order lines of a form that hang together, with what is promised and what there is.

    Quantities are in the unit of the form: kilos of seed, pieces of plants.
    """

    form: str
    batches: tuple[Standings, ...]
    lines: tuple[OrderLine, ...]
    needed: float
    result: Forecast
    kept: Mapping[int, Sequence[Kept]] = field(default_factory=dict)  # what is set aside of lots, by line
    unfit: Mapping[int, Sequence[Problem]] = field(default_factory=dict)  # why a batch counts for nothing, by line
    counts: tuple[Stock, ...] = ()  # what `result` was reckoned from

    @property
    def ids(self) -> tuple[int, ...]:
        return tuple(one.saved.batch.pk for one in self.batches)

    @property
    def timely(self) -> tuple[Stock, ...]:
        """Stocks that keep the promises: ready before the first window closes, and not too old when it opens."""
        return tuple(
            stock for one in self.batches for stock in in_stock_then(self.lines, one.saved, one.ready, one.stocks)
        )

    @property
    def deadline(self) -> date | None:
        """Last day of the window that closes first."""
        ends = [line.due.upper for line in self.lines]
        return min(ends) if ends else None


def in_time(lines: Sequence[OrderLine], ready: date) -> bool:
    """Whether a batch is ready before the first window of these lines closes."""
    return all(ready < line.due.upper for line in lines)


def held_for(lines: Sequence[OrderLine], saved: Saved, ready: date) -> Held | None:
    """How long what a batch gives waits for the first of these lines; None for seed, which waits in its store."""
    if not lines or saved.method.way != "plants":
        return None
    wanted, method = min(line.due.lower for line in lines), saved.method
    return held(
        ready=ready,
        wanted=wanted,
        hold_days=method.hold_days,
        loss_a_week=method.hold_loss,
        in_hand=saved.batch.organisation.safety_days,
    )


def in_stock_then(lines: Sequence[OrderLine], saved: Saved, ready: date, stocks: Sequence[Stock]) -> tuple[Stock, ...]:
    """What there will be of a batch's stocks for these lines: nothing of what comes late or is too old, less of what waits."""
    if not in_time(lines, ready):
        return ()
    waits = held_for(lines, saved, ready)
    if waits is None or waits.kept == 1:
        return tuple(stocks)
    if waits.too_old:
        return ()
    return tuple(replace(stock, remaining=product([stock.remaining, Spread(waits.kept)])) for stock in stocks)


def standing(
    saved: Saved, lost: int, in_stock: Mapping[str, float] | None, passed: tuple[str, int] | None = None
) -> Standing:
    """A saved batch in core's terms. `in_stock`: by the stage that gave it, in its unit; `passed`: graded in part."""
    counted = {
        key: Seen(stage.counted_share, stage.counted_sd or 0.0)
        for key, stage in saved.stages.items()
        if stage.counted_share is not None
    }
    rates = {key: rate_of(stage) for key, stage in saved.stages.items()}
    return Standing(saved.method, rates, saved.batch.start, counted, lost, in_stock, passed)


def losses(ctx: Ctx, batches: Iterable[Batch], *, since_count: bool = False) -> dict[int, int]:
    """Plants counted as lost, by batch; see `losses_of`."""
    return losses_of(ctx.organisation.pk, batches, since_count=since_count)


def with_whole(rows: QuerySet[Yield]) -> QuerySet[Any]:
    """Yields with `whole`, all that any batch gave to their lot: quantity ÷ whole is a yield's share of what is left."""
    given = Yield.objects.filter(lot=OuterRef("lot")).values("lot").annotate(whole=Sum("quantity")).values("whole")
    return rows.annotate(whole=Subquery(given))


def in_stock(
    batches: Iterable[int], classes: Mapping[int, Collection[str]] | None = None
) -> dict[int, dict[str, float]]:
    """What batches gave to stock and is still there, by stage, in its unit; batches without a lot are absent.

    `classes`: of seed, that count for a batch; what was rejected or is held counts for none. A lot that several batches gave to counts for each with its share.
    """
    own = with_whole(Yield.objects.filter(stage__batch__in=list(batches)))
    aside = SetAside.objects.filter(lot=OuterRef("lot"), order_line__state=OrderLine.State.OPEN)
    total = aside.values("lot").annotate(total=Sum("quantity")).values("total")
    rows = own.annotate(aside=Subquery(total)).values_list(
        "stage__batch",
        "stage__key",
        "quantity",
        "whole",
        "lot__balance",
        "aside",
        "lot__unit",
        "lot__seed_class",
        "lot__status",
        "lot__on_hold",
    )
    found: dict[int, dict[str, float]] = defaultdict(dict)
    for pk, key, quantity, whole, balance, spoken, name, seed_class, status, on_hold in rows:
        lower = bool(classes and pk in classes and seed_class) and seed_class not in (classes or {})[pk]
        counts = not lower and status != Status.REJECTED and not on_hold
        free = (
            max(Decimal(0), balance - (spoken or 0)) if counts else Decimal(0)
        )  # what is set aside counts where it was set aside for
        there = float(from_base(free * (quantity / whole), unit(name))) if whole else 0.0
        found[pk][key] = found[pk].get(key, 0.0) + there
    return found


def graded_in_part(ctx: Ctx, batches: Iterable[Saved]) -> dict[int, tuple[str, int]]:
    """Batches of which a part was graded or taken in and the rest still stands: the stage, and how much went through it."""
    found: dict[int, tuple[str, int]] = {}
    loaded = _loaded([one for one in batches if one.method.first_with(Trait.LOADS) is not None])
    for one in batches:
        grading, loads = one.method.first_with(Trait.GRADES), one.method.first_with(Trait.LOADS)
        if loads is not None and one.batch.state == Batch.State.SOWN and one.batch.all_in is None:
            each = rate_of(one.stages[loads.key]).kept  # of one that went in, in the unit of what is weighed
            into = loaded.get(one.batch.pk, 0.0) / each if each else 0.0
            if into:
                found[one.batch.pk] = (loads.key, round(into))
            continue
        if one.batch.state == Batch.State.SOWN and grading is not None:
            out = ctx.rows(Count).filter(subject=one.batch.uuid, kind="graded out", replaced_by=None)
            good = Yield.objects.filter(stage__batch=one.batch).aggregate(total=Sum("quantity"))["total"] or 0
            found[one.batch.pk] = (grading.key, int(good) + (out.aggregate(total=Sum("found"))["total"] or 0))
    return found


def _loaded(batches: Sequence[Saved]) -> dict[int, float]:
    """All that came in as loads of batches, in the unit of the stage that gives them."""
    if not batches:
        return {}
    found: dict[int, float] = defaultdict(float)
    of = {one.batch.pk: one.method.first_with(Trait.LOADS) for one in batches}
    rows = Yield.objects.filter(stage__batch__in=list(of)).values_list(
        "stage__batch", "stage__key", "quantity", "lot__unit"
    )
    for pk, key, quantity, _ in rows:
        stage = of[pk]
        if stage is not None and key == stage.key:
            found[pk] += float(from_base(quantity, stage.unit))
    return found


Node = tuple[str, int, str]  # "b" or "l", its id, the form


def groups(
    ctx: Ctx,
    *,
    batches: Iterable[int] = (),
    lines: Iterable[int] = (),
    everything: bool = False,
    known: InHand = NOTHING,
) -> list[Group]:
    """The groups that hold these batches or lines. A fixed number of queries; `known`: what is loaded already."""
    batches, lines = list(batches), list(lines)
    allocations = Allocation.objects.filter(order_line__organisation=ctx.organisation, batch__state__in=LIVE)
    if not everything:
        near = allocations.filter(Q(batch__in=batches) | Q(order_line__in=lines))
        # One hop on: whatever shares a batch or a line with those.
        allocations = allocations.filter(
            Q(batch__in=near.values("batch")) | Q(order_line__in=near.values("order_line"))
        )
    pairs, unfit, classes = _that_count(ctx, allocations)
    loaded = load_many(ctx, {batch for batch, _, _ in pairs} | set(batches), known.batches, classes)
    # Seed that is promised by number is weighed by its crop's or cultivar's grain weight.
    weighing = ("crop", "line") if everything or any(form == "seed" for _, _, form in pairs) else ()
    asked = {line for _, line, _ in pairs} | set(lines) | set(unfit)
    order_lines = {line.pk: line for line in known.lines if line.pk in asked}
    more = ctx.rows(OrderLine).filter(pk__in=asked - set(order_lines), state=OrderLine.State.OPEN)
    order_lines |= {line.pk: line for line in more.select_related("order", *weighing)}
    edges: list[tuple[Node, Node]] = [(("b", batch, form), ("l", line, form)) for batch, line, form in pairs]
    edges += [(("b", pk, one.saved.method.form),) * 2 for pk, one in loaded.items() if pk in batches]
    edges += [(("l", line.pk, line.form),) * 2 for line in order_lines.values() if line.pk in unfit or line.pk in lines]
    fed, kept = feeds(loaded), kept_for(order_lines)
    return [replace(_group(part, loaded, order_lines, fed, kept), unfit=unfit) for part in _connected(edges)]


def _that_count(
    ctx: Ctx, allocations: QuerySet[Allocation]
) -> tuple[list[tuple[int, int, str]], dict[int, list[Problem]], dict[int, set[str]]]:
    """Promises with their batches, without those for which a batch counts for nothing: why, by line.

    Lastly the classes of seed that fill every line of a batch that asks for one, by batch.
    """
    filling: Callable[[str], tuple[str, ...]] | None = None
    pairs: list[tuple[int, int, str]] = []
    unfit: dict[int, list[Problem]] = defaultdict(list)
    classes: dict[int, set[str]] = {}
    names = ("order_line__form", "order_line__seed_class", "batch__seed_class", "batch__barred", "batch__code")
    told = allocations.values_list("batch_id", "order_line_id", *names, "batch__problems", "batch__on_hold")
    for pk, line, form, asked, own, barred, code, problems, on_hold in told:
        if barred or on_hold:
            why = "; ".join(filter(None, (barred, on_hold)))
            unfit[line].append(Problem("barred", {"batch": code, "why": why}))
            continue
        if any(hopeless_season(one) for one in problems):
            unfit[line].extend(one for one in read(problems) if one.code == "out_of_season")
            continue
        if asked:
            filling = filling or classes_filling(ctx)
            fit = filling(asked)
            if own and own not in fit:
                has, wanted = (one.replace("-", " ") for one in (own, asked))
                unfit[line].append(Problem("other_class", {"batch": code, "has": has, "asked": wanted}))
                continue
            classes[pk] = classes[pk] & set(fit) if pk in classes else set(fit)
        pairs.append((pk, line, form))
    return pairs, dict(unfit), classes


def _group(
    part: set[Node],
    loaded: Mapping[int, Standings],
    order_lines: Mapping[int, OrderLine],
    fed: Mapping[tuple[int, str], float],
    kept: Mapping[int, Sequence[Kept]],
) -> Group:
    form = next(iter(part))[2]
    own = tuple(
        _for_form(loaded[pk], form) for pk in sorted(pk for kind, pk, _ in part if kind == "b" and pk in loaded)
    )
    wanted = tuple(order_lines[pk] for kind, pk, _ in sorted(part) if kind == "l" and pk in order_lines)
    needed = sum(still_needed(line, own[0].saved if own else None, kept.get(line.pk, ())) for line in wanted)
    needed += sum(fed.get((one.saved.batch.pk, form), 0.0) for one in own)
    # What comes after the window closes keeps no promise, and what is too old by then neither.
    counts = [stock for one in own for stock in in_stock_then(wanted, one.saved, one.ready, one.stocks)]
    return Group(form, own, wanted, needed, forecast(needed=needed, stocks=counts), kept, counts=tuple(counts))


def _for_form(one: Standings, form: str) -> Standings:
    if form == one.saved.method.form:
        return one
    state = standing(one.saved, one.lost, in_stock([one.saved.batch.pk]).get(one.saved.batch.pk))
    return Standings(one.saved, stocks_of(state, form), one.ready, one.lost)


def still_needed(line: OrderLine, saved: Saved | None, kept: Sequence[Kept] = ()) -> float:
    """What a line still waits for beside what is set aside for it, in the unit of what its batch gives."""
    missing = max(Decimal(0), line.quantity - line.delivered - sum(one.there for one in kept))
    of = unit_of(saved.method, line.form) if saved else unit(line.unit)
    if not unit(line.unit).same_measure(of):
        missing = in_grams(line, missing)
    return float(from_base(missing, of))


def feeds(loaded: Mapping[int, Standings]) -> dict[tuple[int, str], float]:
    """What other batches are to be started with of these, by batch and form."""
    found: dict[tuple[int, str], float] = defaultdict(float)
    rows = BatchInput.objects.filter(upstream__batch__in=list(loaded), taken_on=None)
    for pk, key, quantity in rows.values_list("upstream__batch_id", "upstream__key", "quantity"):
        method = loaded[pk].saved.method
        leaf = next((leaf for leaf in method.leaves if any(s.key == key for s in method.path(leaf.key))), method.last)
        found[pk, method.product_of(leaf)] += float(quantity)
    return found


def load_many(
    ctx: Ctx, ids: Iterable[int], known: Iterable[Saved] = (), classes: Mapping[int, Collection[str]] | None = None
) -> dict[int, Standings]:
    """What each live batch stands at for its main form."""
    asked = set(ids)
    saved = {one.batch.pk: one for one in known if one.batch.pk in asked and one.batch.state in LIVE}
    others = asked - set(saved)
    if others:
        saved |= saved_many(ctx, ctx.rows(Batch).filter(pk__in=others, state__in=LIVE))
    # Only what was begun can have given something to stock.
    begun = [pk for pk, one in saved.items() if one.batch.state != Batch.State.PLANNED]
    lost = losses(ctx, [one.batch for one in saved.values()], since_count=True)
    given = in_stock(begun, classes) if begun else {}
    parts = graded_in_part(ctx, [one for pk, one in saved.items() if pk in given])
    return {
        pk: Standings(
            one,
            stocks_of(standing(one, lost.get(pk, 0), given.get(pk), parts.get(pk)), one.method.form),
            ready_on(one, ctx.today),
            lost.get(pk, 0),
        )
        for pk, one in saved.items()
    }


def _connected(edges: Sequence[tuple[Node, Node]]) -> list[set[Node]]:
    parent: dict[Node, Node] = {}

    def root(node: Node) -> Node:
        parent.setdefault(node, node)
        while parent[node] != node:
            parent[node] = parent[parent[node]]
            node = parent[node]
        return node

    for a, b in edges:
        parent[root(a)] = root(b)
    parts: dict[Node, set[Node]] = defaultdict(set)
    for node in list(parent):
        parts[root(node)].add(node)
    return list(parts.values())


def refresh(
    ctx: Ctx,
    *,
    batches: Iterable[int] = (),
    lines: Iterable[int] = (),
    everything: bool = False,
    known: InHand = NOTHING,
) -> list[Group]:
    """Bring chance, forecast, problems and band of the touched batches and lines up to date."""
    found = groups(ctx, batches=batches, lines=lines, everything=everything, known=known)
    changed_lines, changed_batches = [], []
    short = short_lots([one.saved.batch.lot_id for group in found for one in group.batches if one.saved.batch.lot_id])
    for group in found:
        for line in group.lines:
            chance = _chance_of(line, group)
            told = group.batches or line.pk in group.kept or line.pk in group.unfit
            problems = problems_of(line, group, short) if told else line.problems
            expected = _expected_for(line, group)
            if (chance, expected, problems) != (line.chance, line.forecast, line.problems):
                changed_lines.append((line.pk, chance, expected, json_value(problems)))
        for one in group.batches:
            method = one.saved.method
            if group.form == method.form:
                alone, factor = forecast(needed=0, stocks=one.stocks), float(method.unit.value.factor)
                batch = one.saved.batch
                figures = (alone.expected * factor, alone.low * factor, alone.high * factor)
                if figures != (batch.expected, batch.low, batch.high):
                    changed_batches.append((batch.pk, *figures))
    update_rows(OrderLine, ("chance", "forecast", "problems"), changed_lines)
    update_rows(Batch, ("expected", "low", "high"), changed_batches)
    refresh_waiting(ctx, {one.saved.batch.pk: one.saved for group in found for one in group.batches}.values())
    return found


def _chance_of(line: OrderLine, group: Group) -> float | None:
    """The chance of one line of a group; None where nothing is meant for it."""
    if not group.batches:
        meant = line.pk in group.kept or line.pk in group.unfit
        return (1.0 if group.needed <= 0 else 0.0) if meant else None
    # Plants that are there in time for the first line may be too old for a later one.
    waits = [held_for([line], one.saved, one.ready) for one in group.batches]
    too_old = all(one is not None and one.too_old for one in waits)
    return (
        0.0
        if too_old and still_needed(line, group.batches[0].saved, group.kept.get(line.pk, ())) > 0
        else group.result.chance
    )


def _expected_for(line: OrderLine, group: Group) -> float | None:
    """What a line may expect of its group, in its own base unit; None where nothing is meant for it."""
    kept = group.kept.get(line.pk, ())
    aside = float(sum(one.there for one in kept))
    if not group.batches:
        return aside if kept or line.pk in group.unfit else None
    saved = group.batches[0].saved
    wanted = still_needed(line, saved, kept)
    share = wanted / group.needed if group.needed else 1.0 if not kept else 0.0
    missing = float(max(Decimal(0), line.quantity - line.delivered)) - aside
    # By the line's own measure: kilos are kept as grams, seeds as seeds.
    own = missing / wanted if wanted else float(unit_of(saved.method, line.form).value.factor)
    return group.result.expected * share * own + aside


def short_lots(ids: Iterable[int]) -> dict[int, Problem]:
    """Lots of which more is planned to be sown than there is, and by how much."""
    asked = set(ids)
    if not asked:
        return {}
    spoken = (
        BatchInput.objects.filter(lot__in=asked, taken_on=None)
        .values_list("lot", "lot__code", "lot__balance")
        .annotate(total=Sum("quantity"))
    )
    return {
        pk: Problem("short_seed", {"lot": code, "grams": float(total - balance)})
        for pk, code, balance, total in spoken
        if total > balance
    }


def problems_of(line: OrderLine, group: Group, short: Mapping[int, Problem]) -> list[dict[str, Any]]:
    """What stands against a promise, from its batches as they stand."""
    found: list[Problem] = list(group.unfit.get(line.pk, ()))
    planned = [one for one in group.batches if one.saved.batch.state == Batch.State.PLANNED]
    late = [one for one in group.batches if one.ready >= line.due.upper]
    if late and len(late) == len(group.batches):
        first = min(late, key=lambda one: one.ready)
        days = (first.ready - line.due.upper).days + 1
        if first.saved.batch.state == Batch.State.PLANNED:
            found.append(Problem("late", {"ready_on": first.ready.isoformat(), "days": days}))
        else:
            found.append(Problem("batch_late", {"batch": first.saved.batch.code, "days": days}))
    found.extend(_waiting(line, group))
    if not found and group.result.chance < HARDLY and group.result.short:
        of = unit_of(group.batches[0].saved.method, group.form) if group.batches else unit(line.unit)
        expected, needed = (
            Quantity.of(f"{one:.3g}" if not of.is_pieces else round(one), of)
            for one in (group.result.expected, group.needed)
        )
        found.append(Problem("short", {"expected": expected.words(), "needed": needed.words()}))
    found.extend(one.problem for one in group.kept.get(line.pk, ()) if one.problem is not None)
    for one in planned:
        batch = one.saved.batch
        found.extend(read(batch.problems))
        if one.saved.method.by_seed and batch.lot_id is None:
            found.append(Problem("no_seed", {"crop": batch.crop.name.lower(), "grams": batch.seed_g or 0.0}))
        elif batch.lot_id is not None and batch.lot_id in short:
            found.append(short[batch.lot_id])
    return [one.plain() for one in found]


def _waiting(line: OrderLine, group: Group) -> Iterable[Problem]:
    """Batches that are ready so long before a line wants them that they are too old by then, or nobody knows."""
    for one in group.batches:
        waits = held_for([line], one.saved, one.ready)
        if waits is None:
            continue
        data = {"batch": one.saved.batch.code, "ready_on": one.ready.isoformat(), "days": waits.days}
        if waits.too_old:
            yield Problem("aged", {**data, "hold": one.saved.method.hold_days})
        elif one.saved.method.hold_days is None and waits.days > LONG:
            yield Problem("waits_long", data)
