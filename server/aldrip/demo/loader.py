"""Live through the invented season, day by day, with the services that people use."""

import csv
import random
import uuid
from collections import defaultdict
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import yaml
from django.conf import settings
from django.contrib.auth.hashers import make_password
from django.db.models import Min, Sum

from aldrip.accounts.context import Ctx
from aldrip.accounts.models import AuditEvent, ClosedDay, Member, Organisation, Role, User
from aldrip.base.importing import read_text
from aldrip.batches import counts, doing, grading, sowings, starting
from aldrip.batches.medium import filled_from
from aldrip.batches.models import Allocation, Batch, BatchStage
from aldrip.batches.saved import Saved, load_batch
from aldrip.deliveries.models import Delivery
from aldrip.deliveries.services import Pick, Short, deliver, end_batch, stock_for
from aldrip.demo.seed_season import SeedSeason
from aldrip.diary.models import Task
from aldrip.diary.services import add_task, mark
from aldrip.lots import services as lots
from aldrip.lots.media import MediumSpec, add_medium, decide_medium, read_medium
from aldrip.lots.models import Lot
from aldrip.methods.models import Crop, Line
from aldrip.methods.resolver import Library
from aldrip.methods.services import LineSpec, add_line
from aldrip.methods.writing import form_of, write_form
from aldrip.orders import services as orders
from aldrip.orders.models import OrderLine
from aldrip.orders.promised import shown
from aldrip.places.models import Place, Site
from aldrip.places.services import PlaceSpec, add_place
from aldrip.places.weather import days_of, take_days
from aldrip.sowing.calibrating import MachineSpec, record_trial, save_machine, target_of
from aldrip.sowing.feeding import record_feed
from aldrip.sowing.practice_device import SEED
from aldrip.sowing.trays import record as write_trays
from aldrip.stockplants import tuber_store
from aldrip.stockplants.models import MotherStock, TuberStack
from aldrip.stockplants.planning import Asked, keep, ordered
from aldrip.stockplants.services import Planted, cut, exhausted, habit_of, index, plant, read_habit
from aldrip.stockplants.traps import count as read_traps
from aldrip_core.conditioning import MediumLimits
from aldrip_core.forecast import TrayCount
from aldrip_core.mother_plan import Raising
from aldrip_core.practice_sower import PracticeSower
from aldrip_core.stages import Trait
from aldrip_core.trap_counts import Catch
from aldrip_core.tuber_store import StoreHabit
from aldrip_core.units import Quantity, Unit

FOLDER = Path(settings.ROOT) / "demo"
PASSWORD = "quillmere-demo"
SAMPLED_TRAYS = 6
WHOLE = "demo.loaded"


def _yaml(name: str) -> dict[str, Any]:
    loaded: dict[str, Any] = yaml.safe_load((FOLDER / name).read_text(encoding="utf-8"))
    return loaded


def _csv(name: str) -> list[dict[str, str]]:
    with (FOLDER / name).open(encoding="utf-8", newline="") as file:
        return list(csv.DictReader(file))


def _write_own(ctx: Ctx, own: dict[str, Any]) -> None:
    """A method as the house does it, over the one that ships."""
    typed = form_of(ctx, "method", own["method"])["typed"]
    for stage in typed["stages"]:
        changed = dict(own["stages"].get(stage["key"], {}))
        stage["tasks"] += changed.pop("tasks", [])
        stage.update({name: str(value) for name, value in changed.items()})
    write_form(ctx, "method", own["method"], typed, source="own records, 2024 to 2026", reason=own["reason"])


class Season:
    """The demo's organisation while it lives through its days."""

    def __init__(self) -> None:
        self.house, self.stories = _yaml("house.yaml"), _yaml("stories.yaml")
        self.random = random.Random(self.stories["seed"])
        self.ends: date = self.house["practice_date"]
        self.ctx = self._set_up()
        self.seed = SeedSeason(self.ctx, _yaml("seed.yaml"), self._uuid)
        self.orders: dict[str, list[dict[str, str]]] = defaultdict(list)
        for row in _csv("orders.csv"):
            self.orders[row.pop("received")].append(row)

    def _set_up(self) -> Ctx:
        house = self.house
        organisation = Organisation.objects.create(
            **house["organisation"],
            working_days=house["working_days"],
            sowing_days=house["sowing_days"],
            practice_date=house["begins"],
            demo=True,
        )
        first: User | None = None
        hashed = make_password(PASSWORD)  # slow on purpose, so once for all seven
        for person in house["people"]:
            name, _, family = person["full_name"].partition(" ")
            user = User(username=person["username"], first_name=name, last_name=family)
            user.password = hashed
            user.save()
            Member.objects.create(user=user, organisation=organisation, role=person["role"])
            first = first or user
        ctx = Ctx(organisation, first, Role.MANAGER)
        for day in house["closed_days"]:
            ClosedDay.objects.create(organisation=organisation, **day)
        site = Site.objects.create(organisation=organisation, **house["site"])
        for place in house["places"]:
            add_place(ctx, site.pk, PlaceSpec(**place))
        for own in house["methods"]:
            _write_own(ctx, own)
        return ctx

    def live(self) -> None:
        """From the first day to the practice date."""
        self._receive_lots()
        self.seed.set_up()
        self.seed.before(self.house["begins"], self._stand_on)
        day = self.house["begins"]
        working, _ = self.ctx.calendars()
        while day <= self.ends:
            if working.works(day):
                self._day(day)
            day += timedelta(days=1)
        self._media()
        self._feed()
        self._mothers()
        self._tubers()
        self._traps()
        self._trays()
        self._stand_on(self.ends)
        self._tasks()
        self._sowers()
        days = days_of(read_text((FOLDER / "weather.csv").read_text(encoding="utf-8")), self.ends)
        take_days(self.ctx, self.ctx.rows(Site).get().pk, days)

    def _stand_on(self, day: date) -> None:
        self.ctx.organisation.practice_date = day
        self.ctx.organisation.save(update_fields=["practice_date"])

    def _receive_lots(self) -> None:
        crops = {crop.name: crop for crop in Library(self.ctx).rows(Crop)}
        lines = {(line.crop_id, line.name): line for line in Library(self.ctx).rows(Line)}
        for row in _csv("lots.csv"):  # a cultivar of the house's own is written when its first seed comes
            key = (crops[row["crop"]].pk, row["cultivar"])
            if key not in lines:
                lines[key] = add_line(self.ctx, LineSpec(*key))
        for row in sorted(_csv("lots.csv"), key=lambda r: r["received"]):
            self._stand_on(max(date.fromisoformat(row["received"]), date(2025, 1, 1)))
            crop = crops[row["crop"]]
            lots.receive(
                self.ctx,
                crop_id=crop.pk,
                line_id=lines[crop.pk, row["cultivar"]].pk,
                quantity=Quantity.of(row["grams"], Unit.GRAM),
                germination=float(row["germination"]),
                tgw_g=float(row["tgw"]),
                tested_on=min(date.fromisoformat(row["tested"]), self.ctx.today),
                supplier=row["supplier"],
                supplier_ref=row["reference"],
                treatment=row["treatment"],
            )
        for test in self.stories["tests"]:
            self._stand_on(test["tested"])
            lot = self.ctx.rows(Lot).get(crop__name=test["lot"])
            lots.record_test(
                self.ctx, lot.pk, kind="germination", value=test["germination"], tested_on=test["tested"], seeds=400
            )

    def _day(self, day: date) -> None:
        self._stand_on(day)
        arrived = self.orders.pop(day.isoformat(), [])
        if arrived:
            orders.take_in(self.ctx, arrived)
            starting.plan_lines(self.ctx)
        self.seed.day(day)
        # A batch's turn comes in the evening of its day; what is due today is left to do.
        if day < self.ends:
            self._do(day)
        self._counts_told(day)
        self._losses_told(day)

    def _named(self, story: dict[str, Any]) -> Batch:
        monday = date.fromisocalendar(self.ends.year, story["week"], 1)
        row = Allocation.objects.filter(
            order_line__organisation=self.ctx.organisation,
            order_line__order__number=story["order"],
            order_line__due__contains=monday,
        ).first()
        if row is None:
            raise LookupError(f"the demo has no batch for {story}")
        return row.batch

    def _counts_told(self, day: date) -> None:
        for story in self.stories["counts"]:
            if story.get("day") == day:
                self._count(self._named(story), day, story["found"])

    def _losses_told(self, day: date) -> None:
        for story in self.stories["losses"]:
            if story["day"] == day:
                counts.count_loss(
                    self.ctx,
                    self._named(story).pk,
                    lost=story["lost"],
                    cause=story["cause"],
                    on=day,
                    client_uuid=self._uuid(),
                )

    def _uuid(self) -> uuid.UUID:
        return uuid.UUID(int=self.random.getrandbits(128), version=4)

    def _do(self, day: date) -> None:
        """Whatever the plan has for this day, as the next step of each batch."""
        live = self.ctx.rows(Batch).filter(state__in=(Batch.State.PLANNED, Batch.State.SOWN), method__way="plants")
        due = live.filter(stages__actual_start=None, stages__planned__startswith__lte=day).distinct()
        for batch in due.order_by("id"):
            self._step(batch, day)
        for line in (
            self.ctx.rows(OrderLine)
            .filter(state=OrderLine.State.OPEN, due__startswith__lte=day)
            .select_related("order", "crop", "line")
        ):
            self._deliver(line, day)

        for batch in (
            self.ctx.rows(Batch)
            .filter(state=Batch.State.READY, method__way="plants")
            .exclude(allocations__order_line__state=OrderLine.State.OPEN)
        ):
            end_batch(self.ctx, batch.pk, "surplus, composted")

    def _step(self, batch: Batch, day: date) -> None:
        if batch.state == Batch.State.PLANNED:
            sowings.sown(self.ctx, batch.pk, on=day)
            return
        saved = load_batch(self.ctx, batch.pk)
        stage, method = saved.next, saved.method
        if stage is None or stage.planned.lower > day:
            return
        before = saved.now
        if method.by_key[before.key].does(Trait.EMERGES) and before.counted_share is None:
            told = [s for s in self.stories["counts"] if self._is(s, batch)]
            if told and "day" in told[0]:
                return
            self._count(batch, day, told[0]["found"] if told else self._shares(before))
        if method.by_key[stage.key].does(Trait.GRADES):
            self._grade(saved, day)
        elif not method.by_key[stage.key].does(Trait.LEAVES):
            doing.moved(self.ctx, batch.pk, stage=stage.key, on=day)

    def _is(self, story: dict[str, Any], batch: Batch) -> bool:
        return self._named(story).pk == batch.pk if self._known(story) else False

    def _known(self, story: dict[str, Any]) -> bool:
        return self.ctx.rows(OrderLine).filter(order__number=story["order"], allocations__isnull=False).exists()

    def _shares(self, stage: BatchStage) -> list[float]:
        mean = stage.alpha if stage.beta is None else stage.alpha / (stage.alpha + stage.beta)
        own = mean + self.random.gauss(0.0, 0.012)
        return [min(1.0, own + self.random.gauss(0.0, 0.015)) for _ in range(SAMPLED_TRAYS)]

    def _count(self, batch: Batch, day: date, shares: list[float]) -> None:
        cells = batch.container.cells if batch.container else 100
        trays = [TrayCount(cells, min(cells, round(cells * share))) for share in shares[: batch.trays or 1]]
        counts.count_emergence(self.ctx, batch.pk, trays=trays, on=day, client_uuid=self._uuid())

    def _grade(self, saved: Saved, day: date) -> None:
        batch = saved.batch
        standing = float(batch.start)
        for stage in saved.begun:
            mean = stage.alpha if stage.beta is None else stage.alpha / (stage.alpha + stage.beta)
            kept = stage.counted_share if stage.counted_share is not None else mean + self.random.gauss(0, 0.004)
            standing *= min(1.0, kept) * stage.multiply
        share = min(0.995, 0.95 + self.random.gauss(0, 0.008))
        good = round(standing * share)
        out = round(standing) - good
        causes = [
            {"cause": "root ball holds together: no", "count": out // 2},
            {"cause": "drawn", "count": out - out // 2},
        ]
        grading.graded(self.ctx, batch.pk, good=good, out=causes, on=day, client_uuid=self._uuid())

    def _deliver(self, line: OrderLine, day: date) -> None:
        picks, missing = [], line.quantity - line.delivered
        for lot in stock_for(self.ctx, [line])[line.pk]:
            take = min(missing, lot.balance)
            if take > 0:
                picks.append(Pick(line.pk, lot.pk, shown(take, line.unit) or 0.0))
                missing -= take
        last_day = day >= line.due.upper - timedelta(days=3)
        if not picks or (missing and not last_day):
            return
        told = [
            s["cause"]
            for s in self.stories["short"]
            if s["order"] == line.order.number and s["week"] == line.due.lower.isocalendar().week
        ]
        short = [Short(line.pk, told[0] if told else "graded out more than planned")] if missing else []
        deliver(self.ctx, order_id=line.order_id, on=day, picks=picks, short=short, client_uuid=self._uuid())

    def _tasks(self) -> None:
        """Tasks of the day itself; what was due earlier and is not a batch's is ticked."""
        places = {place.name: place for place in self.ctx.rows(Place)}
        for task in self.stories["tasks"]:
            add_task(
                self.ctx,
                title=task["title"],
                due=task["day"],
                place_id=places[task["place"]].pk,
                part_of_day=task["part"],
                minutes=task["minutes"],
            )
        for task in self.ctx.rows(Task).filter(due_to__lte=self.ends, state=Task.State.TODO):
            mark(self.ctx, task.pk, Task.State.DONE)

    def _media(self) -> None:
        """Coir that was washed and read, let through or not yet; what passed went under what was sown last."""
        for told in self.house["media"]:
            self._stand_on(told["since"])
            medium = add_medium(self.ctx, MediumSpec(told["name"], told["litres"], MediumLimits()))
            for day, ph, ec in told["read"]:
                self._stand_on(day)
                read_medium(self.ctx, medium.pk, ph=ph, ec=ec, client_uuid=self._uuid())
            if "passed" not in told:
                continue
            decide_medium(self.ctx, medium.pk, decision="passed")
            self._stand_on(self.ends)
            sown = self.ctx.rows(Batch).filter(state=Batch.State.SOWN, mix__isnull=False, trays__gt=0)
            sown = sown.annotate(begun=Min("stages__actual_start")).filter(begun__gte=told["passed"])
            for batch in sown.order_by("begun", "pk")[: told["under"]]:
                filled_from(self.ctx, batch.pk, medium.pk)

    def _feed(self) -> None:
        """What was read of the feed."""
        told = self.house["feed"]
        place = self.ctx.rows(Place).get(name=told["place"]).pk
        for day, ec, ph in told["read"]:
            self._stand_on(day)
            record_feed(self.ctx, recipe=told["recipe"], place_id=place, ec=ec, ph=ph, client_uuid=self._uuid())

    def _mothers(self) -> None:
        """Stock plants: planted, tested, cut; what was cut was stuck the same morning."""
        for told in self.house["mothers"]:
            crop = Library(self.ctx).rows(Crop).get(name=told["crop"])
            line = Library(self.ctx).rows(Line).get(crop=crop, name=told["cultivar"])
            place = self.ctx.rows(Place).get(name=told["place"])
            habit = read_habit(told["shoots"], told["first_cut_week"], told["life_weeks"])
            self._stand_on(told["planted"])
            spec = Planted(crop.pk, told["mothers"], habit, line.pk, None, place.pk, note=told.get("note", ""))
            stock = plant(self.ctx, spec, self._uuid())
            for day, many in told["cut"]:
                self._stand_on(day)
                made = cut(self.ctx, stock.pk, cuttings=many, into="stock", client_uuid=self._uuid()).lot
                assert made is not None
                lots.correct_balance(
                    self.ctx, made.pk, counted=Quantity.of(0, Unit.CUTTING), reason="all of them were stuck"
                )
            if test := told.get("tested"):
                self._stand_on(test["when"])
                index(
                    self.ctx,
                    stock.pk,
                    what=test["what"],
                    sound=True,
                    client_uuid=self._uuid(),
                    valid_until=test["valid_until"],
                    laboratory=test["laboratory"],
                )
            if "exhausted" in told:
                exhausted(self.ctx, stock.pk, on=told["exhausted"])
        for told in self.house["mother_plans"]:
            self._mother_plan(told)

    def _traps(self) -> None:
        """Insect traps, read every week."""
        for place, colour, insect, traps, act_from, readings in self.house["traps"]:
            hangs = self.ctx.rows(Place).get(name=place)
            for day, found in readings:
                self._stand_on(day)
                read_traps(
                    self.ctx,
                    place_id=hangs.pk,
                    colour=colour,
                    insect=insect,
                    catch=Catch(found, traps, 7),
                    act_from=act_from,
                    client_uuid=self._uuid(),
                )

    def _trays(self) -> None:
        """Trays that are washed and filled again."""
        for name, on, owned, clean, lasts, acts in self.house["trays"]:
            for day, what, many in ([on, "counted", owned], *acts):
                self._stand_on(day)
                write_trays(
                    self.ctx,
                    name=name,
                    what=what,
                    many=many,
                    clean=clean if what == "counted" else 0,
                    lasts=lasts if what == "counted" else None,
                    client_uuid=self._uuid(),
                )

    def _tubers(self) -> None:
        """Seed tubers of last spring: stood, looked through, turned, planted."""
        for told in self.house["tubers"]:
            crop = Library(self.ctx).rows(Crop).get(name=told["crop"])
            place = self.ctx.rows(Place).get(name=told["place"])
            self._stand_on(told["received"])
            lot = lots.receive(
                self.ctx,
                crop_id=crop.pk,
                line_id=None,
                quantity=Quantity.of(told["many"], Unit.TUBER),
                form="tuber",
                supplier=told["supplier"],
            )
            self._stand_on(told["stood"])
            tuber_store.stand(
                self.ctx,
                lot.pk,
                [tuber_store.Load(*one) for one in told["loads"]],
                StoreHabit(**told["habit"]),
                place_id=place.pk,
                on=None,
                client_uuid=self._uuid(),
                turn_every=told["turn_every"],
            )
            stacks = {one.grade: one for one in self.ctx.rows(TuberStack).filter(lot=lot)}
            acts = [(one[0], "look", one[1:]) for one in told["looked"]] + [(day, "turn", ()) for day in told["turned"]]
            for day, what, given in sorted(acts, key=lambda one: one[0]):
                self._stand_on(day)
                if what == "turn":
                    for one in stacks.values():
                        tuber_store.turn(self.ctx, one.pk)
                    continue
                grade, trays, looked, bad, sprout_mm = given
                tuber_store.look(
                    self.ctx,
                    stacks[grade].pk,
                    trays=trays,
                    looked=looked,
                    bad=bad,
                    limit=0.02,
                    client_uuid=self._uuid(),
                    sprout_mm=sprout_mm,
                )
            self._stand_on(told["out"][0])
            for one in stacks.values():
                tuber_store.carry_out(self.ctx, one.pk, trays=one.trays, to=told["out"][1], client_uuid=self._uuid())

    def _mother_plan(self, told: dict[str, Any]) -> None:
        """Mothers that are planned for a season to come, and ordered."""
        crop = Library(self.ctx).rows(Crop).get(name=told["crop"])
        line = Library(self.ctx).rows(Line).get(crop=crop, name=told["cultivar"])
        self._stand_on(told["ordered"]["when"])
        newest = self.ctx.rows(MotherStock).filter(lot__crop=crop).order_by("-planted_on")[0]
        asked = Asked(
            crop.pk,
            Raising(habit_of(newest), **told["raising"]),
            line.pk,
            (float(told["many"]),) * told["weeks"],
            told["from"],
        )
        for start in keep(self.ctx, asked, None, self._uuid()).starts.all():
            ordered(self.ctx, start.pk, from_whom=told["ordered"]["from"], on=told["ordered"]["when"])

    def _sowers(self) -> None:
        """The house's tray sower, set for what is sown next, and the one that ships for practice."""
        told = self.house["sower"]
        machine = save_machine(self.ctx, MachineSpec(**told["machine"]))
        practice = PracticeSower(SEED)
        least, most = practice.setting_min, practice.setting_max
        save_machine(self.ctx, MachineSpec("Practice sower", least, most, practice.more_is, simulated=True))
        batches = self.ctx.rows(Batch).filter(state=Batch.State.PLANNED, method__way="plants", lot__isnull=False)
        first = next((one for one in batches.order_by("stages__planned") if target_of(one)), None)
        if first is None:
            return
        wanted = target_of(first) or 0.0
        for setting, part in told["caught"]:
            caught = {"setting": setting, "grams": round(part * wanted, 3)}
            record_trial(self.ctx, first.pk, machine.pk, **caught, client_uuid=self._uuid())


def is_whole() -> bool:
    """Whether a demo was loaded to its end; one that was cut short must be loaded anew."""
    return AuditEvent.objects.filter(action=WHOLE).exists()


def load() -> dict[str, int]:
    """Load the demo into an empty database; returns what came of it.

    Not one transaction: its thousands of savepoints would slow the database down a hundredfold.
    """
    season = Season()
    season.live()
    season.ctx.record(WHOLE, "The demo season was loaded.")
    rows = season.ctx.rows
    pieces = [one.words for one in Unit if one.is_pieces]
    delivered = rows(OrderLine).filter(unit__in=pieces).aggregate(n=Sum("delivered"))["n"]
    return {
        "order lines": rows(OrderLine).count(),
        "batches": rows(Batch).count(),
        "lots": rows(Lot).count(),
        "deliveries": rows(Delivery).count(),
        "plants delivered": int(delivered or 0),
    }
