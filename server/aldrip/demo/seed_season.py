"""The seed crops of the invented season: what happened, day by day, through the services that people use."""

from datetime import date, timedelta
from typing import Any

from aldrip.accounts.context import Ctx
from aldrip.accounts.models import Member, Role
from aldrip.batches import starting
from aldrip.batches.models import Batch
from aldrip.lots import laboratory, releasing
from aldrip.lots import services as lots
from aldrip.lots.models import Lot
from aldrip.lots.moving import shown_of
from aldrip.lots.processing import Cleaned, Dried, Load, Part
from aldrip.methods.models import Crop, Line, Method
from aldrip.methods.resolver import Library
from aldrip.methods.services import LineSpec, add_line, save_field_standard, save_rule, save_seed_standard
from aldrip.orders import services as orders
from aldrip.places.ground import polygon_of
from aldrip.places.models import Place, Site
from aldrip.places.services import PlaceSpec, add_place, record_land_use
from aldrip.seedcrops import blocks, flowering, harvesting, inspecting, signing
from aldrip.seedcrops.inspecting import Entry
from aldrip.seedcrops.laying import LayoutChange
from aldrip.seedcrops.models import Inspection, SeedBlock
from aldrip.seedcrops.neighbours import NeighbourSpec, record_neighbour
from aldrip_core.units import Quantity, Unit


class SeedSeason:
    """The seed crops' part of the demo, told by `demo/seed.yaml`."""

    def __init__(self, ctx: Ctx, told: dict[str, Any], new_uuid: Any) -> None:
        self.ctx, self.told, self.uuid = ctx, told, new_uuid
        self.loads: list[int] = []  # raw lots in the order of arrival
        self.clean: list[int] = []
        self.crops = {crop.name: crop for crop in Library(ctx).rows(Crop)}
        self.signer = self._as(Role.INSPECTOR)
        self.laboratory = self._as(Role.LABORATORY)

    def _as(self, role: str) -> Ctx:
        member = Member.objects.filter(organisation=self.ctx.organisation, role=role).select_related("user").first()
        return Ctx(self.ctx.organisation, member.user if member else self.ctx.user, role)

    def set_up(self) -> None:
        """Fields, lines, standards and rules."""
        site = self.ctx.rows(Site).get()
        site.longitude = self.told["site"]["longitude"]
        site.save(update_fields=["longitude"])
        for field in self.told["fields"]:
            outline = polygon_of(site, [(float(x), float(y)) for x, y in field["corners"]])
            add_place(self.ctx, site.pk, PlaceSpec(name=field["name"], kind="field", capacity=None, outline=outline))
        for past in self.told["history"]:
            place = self.ctx.rows(Place).get(name=past["field"])
            record_land_use(self.ctx, place.pk, year=past["year"], crop=past["crop"], family=past["family"])
        for line in self.told["lines"]:
            self._line(line)
        for rule in self.told["rules"]:
            save_rule(
                self.ctx,
                {
                    "crop_id": self.crops[rule["crop"]].pk,
                    "seed_class": rule["class"],
                    "step": rule["step"],
                    "kind": rule["kind"],
                    "metres": rule["metres"],
                    "time_allowed": rule["time_allowed"],
                    "time_margin_days": rule["margin"],
                    "source": self.told["rule_source"],
                },
            )
        for one in self.told["field_standards"]:
            limits = [{"is_plant": True, "cures": True, **limit} for limit in one["limits"]]
            save_field_standard(self.ctx, {**self._named(one), **one["sampling"], "limits": limits})
        for one in self.told["seed_standards"]:
            limits = [{"low": None, "high": None, "required": True, **limit} for limit in one["limits"]]
            save_seed_standard(self.ctx, {**self._named(one), "limits": limits})

    def _named(self, one: dict[str, Any]) -> dict[str, Any]:
        return {
            "crop_id": self.crops[one["crop"]].pk,
            "seed_class": one["class"],
            "name": one["name"],
            "source": self.told["rule_source"],
        }

    def _line(self, line: dict[str, Any]) -> None:
        crop = self.crops[line["crop"]]
        known = {one.name: one.pk for one in Library(self.ctx).rows(Line).filter(crop=crop)}
        add_line(
            self.ctx,
            LineSpec(
                crop.pk,
                line["name"],
                line.get("tgw"),
                line.get("role", ""),
                known.get(line.get("female", "")),
                known.get(line.get("male", "")),
                line.get("heat"),
                line.get("spread"),
                line.get("lasts"),
            ),
        )

    def first_day(self) -> date:
        """The earliest day of the seed crops' story, before the nursery's season begins."""
        days: list[date] = [entry["received"] for entry in (*self.told["lots"], *self.told["orders"])]
        return min(days)

    def day(self, day: date) -> None:
        """Everything that the story tells of a day, in the order of the file."""
        for lot in self.told["lots"]:
            if lot["received"] == day:
                self._receive(lot)
        due = [dict(order) for order in self.told["orders"] if order["received"] == day]
        if due:
            rows = [{k: str(v) for k, v in order.items() if k != "received"} for order in due]
            starting.plan_lines(self.ctx, orders.take_in(self.ctx, rows))
        for one in self.told["neighbours"]:
            if one["seen"] == day:
                self._neighbour(one)
        for entry in self.told["story"]:
            if entry["day"] == day:
                getattr(self, f"_{entry['act']}")(entry)

    def _receive(self, lot: dict[str, Any]) -> None:
        crop = self.crops[lot["crop"]]
        line = Library(self.ctx).rows(Line).get(crop=crop, name=lot["line"])
        lots.receive(
            self.ctx,
            crop_id=crop.pk,
            line_id=line.pk,
            quantity=Quantity.of(lot["grams"], Unit.GRAM),
            supplier=lot["supplier"],
            germination=lot["germination"],
            tgw_g=lot["tgw"],
            tested_on=lot["tested"],
            seed_class=lot["class"],
            label_number=lot["label"],
        )

    def _neighbour(self, one: dict[str, Any]) -> None:
        flowers = one.get("flowers", [None, None])
        record_neighbour(
            self.ctx,
            NeighbourSpec(
                one["name"],
                self.crops[one["crop"]].pk,
                one["kind"],
                one["year"],
                one["seen"],
                one["by"],
                corners_m=[(float(x), float(y)) for x, y in one["corners"]],
                flowers_from=flowers[0],
                flowers_to=flowers[1],
            ),
        )

    def _block(self, entry: dict[str, Any]) -> SeedBlock:
        return self.ctx.rows(SeedBlock).get(batch__line__name=entry["block"])

    def _plan(self, entry: dict[str, Any]) -> None:
        """A batch by a way of its own, for nobody's order."""
        library, crop = Library(self.ctx), self.crops[entry["crop"]]
        line = library.rows(Line).get(crop__slug=crop.slug, name=entry["line"])
        method = library.get(Method, entry["method"])
        asked = starting.NewBatch(crop.pk, method.pk, entry["ready"], needed=float(entry["kg"]), line_id=line.pk)
        starting.new_batch(self.ctx, asked)

    def _lay_out(self, entry: dict[str, Any]) -> None:
        batch = self.ctx.rows(Batch).filter(line__name=entry["block"], seed_block=None).order_by("pk")[0]
        field = self.ctx.rows(Place).get(name=entry["field"])
        block = blocks.lay_out(self.ctx, batch.pk, field_id=field.pk, bearing_deg=entry.get("bearing"))
        if "sow" in entry or "pattern" in entry:
            twice = {"male_sowings": 2, "male_gap_days": entry["gap"]} if "gap" in entry else {}
            change = LayoutChange(pattern=entry.get("pattern"), sow_on=entry.get("sow", {}), **twice)
            blocks.keep(self.ctx, block.pk, change, version=block.version)

    def _sow(self, entry: dict[str, Any]) -> None:
        block = self._block(entry)
        parent = block.parents.get(role=entry["role"])
        lot = self.ctx.rows(Lot).filter(line=parent.line, balance__gt=0).order_by("pk")[0]
        blocks.sow(
            self.ctx,
            block.pk,
            role=entry["role"],
            lot_id=lot.pk,
            kg=entry["kg"],
            on=entry["day"],
            client_uuid=self.uuid(),
        )

    def _see(self, entry: dict[str, Any]) -> None:
        flowering.observe(
            self.ctx,
            self._block(entry).pk,
            role=entry["role"],
            stage=entry["stage"],
            on=entry["day"],
            client_uuid=self.uuid(),
        )

    def _count(self, entry: dict[str, Any]) -> None:
        visit = Inspection.objects.get(block=self._block(entry), number=entry["visit"])
        inspecting.begin(self.signer, visit.pk)
        visit.refresh_from_db()
        found = {limit["attribute"]: entry.get(limit["attribute"], 0) for limit in visit.limits}
        entries = []
        for area in range(1, visit.areas + 1):
            # The last area takes what is left of each fault, the others an even share.
            share = {
                k: v // visit.areas if area < visit.areas else v - v // visit.areas * (visit.areas - 1)
                for k, v in found.items()
            }
            looked = sum(v for k, v in share.items() if k not in ("weeds",))
            entries.append(Entry(self.uuid(), area, visit.plants_per_area - looked, share))
        inspecting.count(self.signer, visit.pk, entries)
        signing.sign(self.signer, visit.pk, decision=entry.get("decision", "accept"))

    def _load(self, entry: dict[str, Any]) -> None:
        load = Load(entry["gross"], entry["tare"], entry["moisture"], entry.get("purity"))
        intake = harvesting.harvest(
            self.ctx,
            self._block(entry).pk,
            load,
            on=entry["day"],
            equipment_clean=True,
            client_uuid=self.uuid(),
        )
        if intake.lot_id:
            self.loads.append(intake.lot_id)

    def _dry(self, entry: dict[str, Any]) -> None:
        harvesting.dry(self.ctx, self.loads[entry["load"] - 1], Dried(entry["to"], entry["day"], self.uuid()))

    def _clean(self, entry: dict[str, Any]) -> None:
        raw = self.ctx.rows(Lot).get(pk=self.loads[entry["load"] - 1])
        parts = [Part(raw.pk, shown_of(raw))]
        run = Cleaned(parts, entry["clean"], entry["screenings"], entry["day"], self.uuid())
        lot = harvesting.clean(self.ctx, run)
        self.clean.append(lot.pk)

    def _test(self, entry: dict[str, Any]) -> None:
        result = laboratory.Result(
            entry["kind"],
            entry["day"],
            tuple(entry.get("normal", ())),
            100,
            entry.get("pure"),
            entry.get("inert"),
            entry.get("other"),
            tuple(entry.get("duplicates", ())),
            entry.get("found"),
            entry.get("sample"),
        )
        laboratory.record_result(self.laboratory, self.clean[entry["lot"] - 1], result, client_uuid=self.uuid())

    def _release(self, entry: dict[str, Any]) -> None:
        harvesting.sign_verdict(
            self.laboratory, self.clean[entry["lot"] - 1], decision="release", client_uuid=self.uuid()
        )

    def _seals(self, entry: dict[str, Any]) -> None:
        numbers = [f"EC-C-27-{entry['first'] + n}" for n in range(entry["count"])]
        releasing.record_seals(self.laboratory, self.clean[entry["lot"] - 1], numbers=numbers)

    def before(self, begins: date, stand_on: Any) -> None:
        """Live through the days before the nursery's season begins."""
        day = self.first_day()
        while day < begins:
            told = {e["received"] for e in (*self.told["lots"], *self.told["orders"])} | {
                e["day"] for e in self.told["story"]
            }
            if day in told:
                stand_on(day)
                self.day(day)
            day += timedelta(days=1)
