"""An order row as a person wrote it, read and judged: every fault with its column and a sentence."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from typing import Protocol

from aldrip.accounts.context import Ctx
from aldrip.base.errors import FieldError, Refused, refuse
from aldrip.base.importing import Table
from aldrip.base.quantity import read_count, read_quantity, split_number
from aldrip.methods.models import Container, Crop, Line, Method, MethodStage, Standard, usual_class
from aldrip.methods.resolver import Library
from aldrip.orders.models import OrderLine
from aldrip.orders.said import OwnWords
from aldrip_core.names import Names, Said, find_form, plain, read_form
from aldrip_core.units import Quantity, Unit, unit
from aldrip_core.weeks import Span, UnreadableDay, read_due, read_span

COLUMNS: dict[str, tuple[str, ...]] = {
    "order": ("order", "order no", "order number", "order nr", "po", "reference", "ref"),
    "customer": ("customer", "buyer", "client", "for"),
    "crop": ("crop", "kind", "plant", "species"),
    "cultivar": ("cultivar", "variety", "line", "var"),
    "form": ("form", "product", "as", "type"),
    "container": ("container", "tray", "tray size", "size", "pot", "pot size", "cells"),
    "seed_class": ("class", "seed class", "category", "grade of seed"),
    "quantity": ("quantity", "number", "count", "plants", "qty", "how many", "pieces"),
    "due": ("due", "week", "date", "delivery", "delivery week", "delivery date", "wanted", "when", "from"),
    "until": ("until", "to", "latest", "last day"),
    "note": ("note", "notes", "remark", "remarks", "comment"),
}
NEEDED = ("crop", "form", "quantity", "due")
OWN_USE = "own use"  # the customer of what a house raises for itself
WORDS = {
    "order": "Order",
    "customer": "Customer",
    "crop": "Crop",
    "cultivar": "Cultivar",
    "form": "Form",
    "container": "Container",
    "seed_class": "Class",
    "quantity": "Quantity",
    "due": "Due",
    "until": "Until",
    "note": "Note",
}
LIMITS = {"order": 30, "customer": 120, "cultivar": 120, "note": 300}


@dataclass(frozen=True)
class ReadRow:
    """A row that holds: what will be saved."""

    order: str
    customer: str
    crop: Crop
    line: Line | None
    form: str
    quantity: Quantity
    due: Span
    note: str
    standard_id: int | None
    seed_class: str = ""
    container: Container | None = None

    def key(self) -> tuple[object, ...]:
        """Two rows with the same key say the same thing twice."""
        line = self.line.pk if self.line else None
        return (
            self.order,
            self.customer.lower(),
            self.crop.pk,
            line,
            self.form,
            self.container.pk if self.container else None,
            self.seed_class,
            self.quantity.base,
            self.quantity.unit.base,
            self.due.start,
            self.due.end,
        )


@dataclass(frozen=True)
class Choice:
    """What may have been meant. `keep`: it settles what such words mean in this house from now on."""

    value: str
    words: str
    keep: bool = False


@dataclass(frozen=True)
class Fault:
    """What is wrong with one cell, and what may have been meant."""

    row: int
    column: str
    code: str
    message: str
    choices: tuple[Choice, ...] = ()
    crop: str = ""  # the slug of the crop that the row was understood to mean


@dataclass
class Checked:
    """Rows with their faults; `read` is None where a row does not hold yet."""

    read: list[ReadRow | None] = field(default_factory=list)
    faults: list[Fault] = field(default_factory=list)


def recognise(headings: Sequence[str]) -> tuple[dict[str, int], list[FieldError]]:
    """Which column is which, and what is missing."""
    found: dict[str, int] = {}
    for index, heading in enumerate(headings):
        plain = heading.strip().lower().rstrip(".:")
        for name, words in COLUMNS.items():
            if plain in words and name not in found:
                found[name] = index
    missing = [
        FieldError(
            name, "missing_column", f"No column says the {WORDS[name].lower()}. Head one of them “{WORDS[name]}”."
        )
        for name in NEEDED
        if name not in found
    ]
    return found, missing


def rows_of(table: Table) -> list[dict[str, str]]:
    """The rows of a table by our column names. Raises Refused when a needed column is missing."""
    found, missing = recognise(table.headings)
    if missing:
        raise Refused(missing)
    own = {} if "customer" in found else {"customer": OWN_USE}  # a grower who sells from the field has no such column
    return [{**own, **{name: row[index] for name, index in found.items()}} for row in table.rows]


class Reader:
    """Reads rows against the library of an organisation, in a fixed number of queries."""

    def __init__(self, ctx: Ctx) -> None:
        self.today = ctx.today
        library = Library(ctx)
        self.own_words = OwnWords(ctx)
        self.crops: Names[Crop] = Names()
        self.by_slug: dict[str, Crop] = {}
        self._near: dict[str, list[Crop]] = {}
        for crop in library.rows(Crop):
            self.by_slug[crop.slug] = crop
            for name in (crop.name, crop.slug, crop.botanical_name, *crop.other_names):
                if name:
                    self.crops.add(name, crop)
        self.lines: dict[str, Names[Line]] = {}
        self.cultivars: dict[str, list[str]] = {}
        for line in library.rows(Line).select_related("crop").order_by("name"):
            self.lines.setdefault(line.crop.slug, Names()).add(line.name, line)
            self.cultivars.setdefault(line.crop.slug, []).append(line.name)
        self.forms: dict[str, dict[str, Method]] = {}
        own_standards = library.own(Standard)
        methods = library.rows(Method).select_related("crop", "standard")
        beside = MethodStage.objects.exclude(product="").filter(method__in=methods.values("pk"))
        products: dict[int, list[str]] = {}
        for pk, product in beside.order_by("method_id", "order").values_list("method_id", "product"):
            products.setdefault(pk, []).append(product)
        for method in methods.order_by("default", "id"):
            if method.standard is not None:  # the house's own of its slug, where there is one
                method.standard = own_standards.get(method.standard.slug, method.standard)
            forms = self.forms.setdefault(method.crop.slug, {})
            forms[method.form] = method
            for product in products.get(method.pk, ()):  # what comes beside the main form can be promised too
                forms.setdefault(product, method)
        self.containers = list(library.ordered(Container))
        scheme = library.scheme
        self.scheme = ctx.organisation.class_scheme
        self.classes = scheme.names() if scheme else {}
        self.unfit = {"hybrid": scheme.unfit_for("hybrid")} if scheme else {}
        standards = list(library.ordered(Standard).select_related("crop"))
        seed = [one for one in standards if one.kind == "seed" and not one.customer]
        self.standards = {(one.crop.slug, one.seed_class): one.pk for one in reversed(seed) if one.crop}
        self.for_customers = [one for one in standards if one.customer]

    def read(self, number: int, row: Mapping[str, str]) -> tuple[ReadRow | None, list[Fault]]:
        """One row: what it says, or every fault in it."""
        faults: list[Fault] = []

        crop: Crop | None = None

        def wrong(column: str, code: str, message: str, choices: Sequence[Choice] = ()) -> None:
            faults.append(Fault(number, column, code, message, tuple(choices), crop.slug if crop else ""))

        for name, limit in LIMITS.items():
            if len(row.get(name, "")) > limit:
                wrong(name, "too_long", f"{len(row[name])} characters; at most {limit} fit.")
        customer = row.get("customer", "").strip()
        if not customer:
            wrong(
                "customer", "missing", "Who ordered it? Write the customer, or “own use”.", [Choice(OWN_USE, OWN_USE)]
            )
        crop = self._crop(row, wrong)
        line = self._line(row, crop, wrong)
        asked = self._form(row, crop, wrong)
        form = asked[1] if asked else None
        container = self._container(row, form, wrong)
        seed_class = self._class(row, form, wrong)
        quantity = _quantity(row, unit(form.unit) if form is not None else None, wrong)
        due = self._due(row, wrong)
        if faults or crop is None or asked is None or form is None or due is None or quantity is None:
            return None, faults
        standard = form.standard_id if form.way == "plants" else self.standards.get((crop.slug, seed_class))
        standard = self._for_customer(customer, crop, asked[0], seed_class) or standard
        return ReadRow(
            row.get("order", "").strip(),
            customer,
            crop,
            line,
            asked[0],
            quantity,
            due,
            self._note(row, crop),
            standard,
            seed_class,
            container,
        ), faults

    def _note(self, row: Mapping[str, str], crop: Crop) -> str:
        """The note; where none is written, the words in which the crop was ordered, if they say more than its name."""
        note, text = row.get("note", "").strip(), row.get("crop", "").strip()
        return note or (f"Ordered as {text}" if self.crops.find(text) != crop else "")

    def _for_customer(self, customer: str, crop: Crop, form: str, seed_class: str) -> int | None:
        """What this customer alone asks of a form: of the crop rather than of any, the house's newest first."""
        own = [
            one
            for one in self.for_customers
            if plain(one.customer) == plain(customer)
            and (one.kind == "seed") == bool(seed_class)
            and (one.seed_class == seed_class if seed_class else plain(one.form) == plain(form))
            and (one.crop is None or one.crop.slug == crop.slug)
        ]
        return max(own, key=lambda one: (one.crop is not None, one.pk)).pk if own else None

    def _class(self, row: Mapping[str, str], form: Method | None, wrong: "Wrong") -> str:
        """The class of seed that is asked, by its name; what the method gives where none is written."""
        text = row.get("seed_class", "").strip()
        if form is None or form.way == "plants":
            return ""
        if not text:
            return usual_class(form.layout, self.scheme)
        unfit = self.unfit.get(form.way, set())
        choices = {slug: name for slug, name in self.classes.items() if slug not in unfit}
        for slug, name in self.classes.items():
            if plain(text) not in (plain(slug), plain(name)):
                continue
            if slug in unfit:
                told = f"By the scheme of the house a hybrid is never {name}; {', '.join(choices.values())} can be ordered."
                wrong("seed_class", "not_for_hybrids", told, [Choice(one, one) for one in choices.values()])
            return slug
        told = f"“{text}” is no class of seed here. Known: {', '.join(self.classes.values())}."
        wrong("seed_class", "unknown_class", told, [Choice(name, name) for name in self.classes.values()])
        return ""

    def _crop(self, row: Mapping[str, str], wrong: "Wrong") -> Crop | None:
        text = row.get("crop", "").strip()
        if not text:
            wrong("crop", "missing", "Which crop? Write its name.")
            return None
        crop = self.crops.find(text) or self.by_slug.get(self.own_words.meant("crop", text))
        if crop is None:
            if text not in self._near:  # a file says the same strange name often
                self._near[text] = self.crops.near(text)
            near = self._near[text]
            hint = f"Did you mean {' or '.join(one.name for one in near)}?" if near else "Add it, or correct the name."
            choices = [Choice(one.slug, one.name, keep=True) for one in near]
            wrong("crop", "unknown_crop", f"“{text}” is not in the library. {hint}", choices)
        return crop

    def _line(self, row: Mapping[str, str], crop: Crop | None, wrong: "Wrong") -> Line | None:
        text = row.get("cultivar", "").strip()
        if not text or crop is None:
            return None
        known = self.lines.get(crop.slug, Names())
        line = known.find(text) or known.find(self.own_words.meant("cultivar", text, crop.slug))
        if line is None:
            listed = ", ".join(self.cultivars.get(crop.slug, ())) or "none yet"
            told = f"“{text}” is no cultivar of {crop.name.lower()} here. Known: {listed}."
            choices = [Choice(one.name, one.name, keep=True) for one in known.near(text)]
            wrong("cultivar", "unknown_cultivar", told, choices)
        return line

    def _form(self, row: Mapping[str, str], crop: Crop | None, wrong: "Wrong") -> tuple[str, Method] | None:
        """The form as it is kept, and the method that gives it."""
        text = row.get("form", "").strip()
        known = self.forms.get(crop.slug, {}) if crop else {}
        listed = ", ".join(sorted(known)) or "plug, pot, rooted cutting"
        if not text:
            wrong("form", "missing", f"In which form? Write one of: {listed}.", [Choice(one, one) for one in known])
            return None
        if crop is None:
            return None
        found = next((form for form in known if plain(form) == plain(text)), None)
        found = found or find_form(read_form(text), known) or self.own_words.meant("form", text, crop.slug)
        if found not in known:
            told = f"{crop.name} is not raised as “{text}” here. Known: {listed}."
            if not known:
                told = f"No method raises {crop.name.lower()} yet. Say how in Methods."
            wrong("form", "unknown_form", told, [Choice(one, one, keep=True) for one in sorted(known)])
            return None
        return found, known[found]

    def _container(self, row: Mapping[str, str], form: Method | None, wrong: "Wrong") -> Container | None:
        """What plants are to be delivered in, where the row says so in its own column or along with the form."""
        text, beside = row.get("container", "").strip(), row.get("form", "").strip()
        if form is None or form.way != "plants":
            return None
        column, typed = ("container", text) if text else ("form", beside)
        named = next((one for one in self.containers if plain(one.name) == plain(text)), None) if text else None
        said = read_form(typed)
        if named is not None or (not text and said.cells is None and said.width_cm is None):
            return named
        found = next((one for one in self.containers if _fits(one, said)), None)
        if found is None:
            what = (
                f"tray of {said.cells}"
                if said.cells
                else f"pot of {said.width_cm:g} cm"
                if said.width_cm
                else f"“{text}”"
            )
            near = sorted(self.containers, key=lambda one: _apart(one, said))[:3]
            told = (
                f"There is no {what} here. Add it in Methods, or take another: {', '.join(one.name for one in near)}."
            )
            # Written in its own column, whatever column the size was found in.
            choices = [Choice(one.name, one.name) for one in near]
            wrong(column, "unknown_container", told, choices)
        return found

    def _due(self, row: Mapping[str, str], wrong: "Wrong") -> Span | None:
        span = self._span(row.get("due", ""), "due", wrong)
        if span is None:
            return None
        if row.get("until", "").strip():
            last = self._span(row["until"], "until", wrong)
            if last is None:
                return None
            if last.end <= span.start:
                wrong(
                    "until",
                    "before_start",
                    f"{row['until'].strip()} is before {row['due'].strip()}. Swap them, or correct one.",
                )
                return None
            span = Span(span.start, max(span.end, last.end))
        if span.end <= self.today:
            wrong("due", "past", f"{row['due'].strip()} is over: today is {_day(self.today)}. Write a day to come.")
            return None
        return span

    def _span(self, text: str, column: str, wrong: "Wrong") -> Span | None:
        try:
            return read_due(text, today=self.today)
        except UnreadableDay as error:
            wrong(column, error.code, str(error))
            return None


class Wrong(Protocol):
    """Tells of a fault in a column of the row that is read."""

    def __call__(self, column: str, code: str, message: str, choices: Sequence[Choice] = ()) -> None: ...


#: Containers that are told by how many they hold; the rest by their width.
BY_CELLS = (Container.Kind.TRAY, Container.Kind.BLOCKS, Container.Kind.PACK)


def _fits(container: Container, said: Said) -> bool:
    return container.kind in _sorts(said) and _apart(container, said) == 0


def _sorts(said: Said) -> tuple[str, ...]:
    return BY_CELLS if said.cells is not None else (Container.Kind.POT,)


def _apart(container: Container, said: Said) -> float:
    """How far a container is from the size that was said; one of another sort is farthest."""
    there, wanted = (
        (container.cells, said.cells) if said.cells is not None else (container.width_cm, said.width_cm or 0)
    )
    return abs(there - wanted) + (0 if container.kind in _sorts(said) else 1e6)


DOTTED = re.compile(r"^\d{1,3}(\.\d{3})+$")


def _quantity(row: Mapping[str, str], usual: Unit | None, wrong: Wrong) -> Quantity | None:
    """How much, in the unit of the form; where that is not known, only whether there is a number."""
    text = row.get("quantity", "").strip()
    counted = usual is None or (usual.is_pieces and usual is not Unit.SEED)
    if counted and DOTTED.match(text):
        whole = text.replace(".", "")
        told = (
            f"“{text}”: is that {int(whole):,}, or {float(text.split('.')[0]):g} and a part? Write it without a point."
        )
        wrong("quantity", "two_ways", told, [Choice(f"{int(whole):,}", f"{int(whole):,}")])
        return None
    try:
        if usual is not None:
            return read_quantity(text, usual, "quantity")
        number = split_number(text, "quantity")[0]
        if number <= 0:
            read_count(str(number), "quantity", "them")
    except Refused as refused:
        said = refused.errors[0]
        empty = "How many? Write the number of plants, or the kilos of seed."
        wrong("quantity", said.code if text else "missing", said.message if text else empty)
    return None


def _day(day: date) -> str:
    return f"{day:%a} {day.day} {day:%b %Y}"


def check(ctx: Ctx, rows: Sequence[Mapping[str, str]]) -> Checked:
    """Judge every row; duplicates among them and with what is saved are faults too."""
    reader, checked = Reader(ctx), Checked()
    seen: dict[tuple[object, ...], int] = {}
    numbered = set(
        ctx.rows(OrderLine)
        .filter(state=OrderLine.State.OPEN)
        .values_list("order__number", "crop_id", "line_id", "form", "container_id", "seed_class", "quantity", "due")
    )
    saved: set[tuple[object, ...]] = {
        (number, crop, line, form, container, seed_class, quantity, due.lower, due.upper)
        for number, crop, line, form, container, seed_class, quantity, due in numbered
    }
    customers: dict[str, str] = {
        number: customer
        for number, customer in ctx.rows(OrderLine).values_list("order__number", "order__customer").distinct()
    }
    for number, row in enumerate(rows):
        read, faults = reader.read(number, row)
        if read is not None:
            faults.extend(_repeats(read, number, seen, saved, customers))
            seen.setdefault(read.key(), number)
            if read.order:
                customers.setdefault(read.order, read.customer)
        checked.read.append(None if faults else read)
        checked.faults.extend(faults)
    return checked


def _repeats(
    read: ReadRow,
    number: int,
    seen: Mapping[tuple[object, ...], int],
    saved: set[tuple[object, ...]],
    customers: Mapping[str, str],
) -> list[Fault]:
    if read.key() in seen:
        return [
            Fault(
                number,
                "order",
                "duplicate",
                f"This repeats row {seen[read.key()] + 1} of the list word for word. Leave one of them out.",
            )
        ]
    line = read.line.pk if read.line else None
    if (
        read.order
        and (
            read.order,
            read.crop.pk,
            line,
            read.form,
            read.container.pk if read.container else None,
            read.seed_class,
            read.quantity.base,
            read.due.start,
            read.due.end,
        )
        in saved
    ):
        return [Fault(number, "order", "duplicate", f"Order {read.order} holds this very line already. Leave it out.")]
    if read.order and customers.get(read.order, read.customer).lower() != read.customer.lower():
        return [
            Fault(
                number,
                "customer",
                "other_customer",
                f"Order {read.order} is {customers[read.order]}'s. Use another order number, or that customer.",
            )
        ]
    return []


MOST_TIMES = 60


def series(rows: Sequence[Mapping[str, str]], every_weeks: str, times: str, *, today: date) -> list[dict[str, str]]:
    """The same rows again, every so many weeks, so many times in all. Raises Refused for days that cannot be read.

    An order number that was typed stays for all of them: they are lines of one order.
    """
    every, many = read_count(every_weeks or "1", "series.every_weeks"), read_count(times, "series.times")
    if not 1 <= every <= 52:
        raise refuse("series.every_weeks", "out_of_range", f"Every {every} weeks cannot be; 1 to 52.")
    if not 2 <= many <= MOST_TIMES:
        raise refuse("series.times", "out_of_range", f"{many} times cannot be; 2 to {MOST_TIMES} in all.")
    found: list[dict[str, str]] = []
    for index, row in enumerate(rows):
        try:
            due = read_span(row.get("due", ""), today=today)
            last = read_span(row["until"], today=today).last if row.get("until", "").strip() else due.last
        except UnreadableDay as error:
            raise refuse(f"rows.{index}.due", error.code, str(error)) from None
        for turn in range(many):
            days = timedelta(weeks=every * turn)
            found.append({**row, "due": (due.start + days).isoformat(), "until": (last + days).isoformat()})
    return found
