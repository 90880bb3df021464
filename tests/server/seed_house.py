"""A house that grows seed, for the tests: a hybrid with its parents, two fields, standards; all invented."""

from datetime import date
from typing import Any, Self

from aldrip.accounts.context import Ctx
from aldrip.batches.models import Batch
from aldrip.batches.starting import plan_lines
from aldrip.lots import services as lots
from aldrip.lots.models import Lot
from aldrip.lots.moving import shown_of
from aldrip.methods.models import Crop, Line
from aldrip.methods.services import LineSpec, add_line, save_field_standard, save_rule
from aldrip.orders.models import OrderLine
from aldrip.places.ground import polygon_of
from aldrip.places.models import Place, Site
from aldrip.places.services import PlaceSpec, add_place
from aldrip.seedcrops.models import SeedBlock
from aldrip_core.units import Quantity, Unit
from tests.server.house import HouseCase, advance, take_order, uid

SPRING = date(2027, 2, 22)
FIELD = [(0.0, 0.0), (150.0, 0.0), (150.0, 150.0), (0.0, 150.0)]
OTHER_FIELD = [(0.0, 900.0), (160.0, 900.0), (160.0, 1060.0), (0.0, 1060.0)]
NEAR = [(570.0, 0.0), (650.0, 0.0), (650.0, 150.0), (570.0, 150.0)]
FIELD_STANDARD: dict[str, Any] = {
    "seed_class": "certified-1",
    "name": "Field",
    "source": "invented",
    "first_areas": 5,
    "first_ha": 2,
    "per_ha": 2,
    "plants_per_area": 200,
    "limits": [
        {
            "attribute": "off_types",
            "words": "off-types",
            "limit": 0.005,
            "decision": "reject_number",
            "is_plant": True,
            "cures": True,
        },
        {
            "attribute": "diseased",
            "words": "diseased",
            "limit": 0.01,
            "decision": "plain_max",
            "is_plant": True,
            "cures": False,
        },
        {
            "attribute": "weeds",
            "words": "weeds",
            "limit": 0.02,
            "decision": "plain_max",
            "is_plant": False,
            "cures": False,
        },
    ],
}


def sunflower() -> Crop:
    return Crop.objects.get(slug="sunflower")


def make_seed_house(ctx: Ctx) -> None:
    """Fields, a hybrid with its two lines, and the standard by which its field is judged."""
    site = Site.objects.get(organisation=ctx.organisation)
    site.longitude = -14.2
    site.save()
    for name, ring in (("Long field", FIELD), ("Far field", OTHER_FIELD)):
        add_place(ctx, site.pk, PlaceSpec(name, "field", None, outline=polygon_of(site, ring)))
    crop = sunflower()
    parents = [
        add_line(ctx, LineSpec(crop.pk, name, 55, role, None, None, heat, 2.0, 8.0))
        for name, role, heat in (("AA-1", "A", 1250.0), ("RR-2", "R", 1230.0))
    ]
    add_line(ctx, LineSpec(crop.pk, "Testhybrid", None, "", parents[0].pk, parents[1].pk))
    save_field_standard(ctx, {"crop_id": crop.pk, **FIELD_STANDARD})
    save_rule(
        ctx,
        {
            "crop_id": crop.pk,
            "seed_class": "quality-declared",
            "step": "hybrid",
            "kind": "other cultivar",
            "metres": 300,
            "time_allowed": True,
            "time_margin_days": 14,
            "source": "invented",
        },
    )


def parent_seed(ctx: Ctx, name: str, *, seed_class: str = "basic", label: str = "B-1") -> Lot:
    line = Line.objects.get(organisation=ctx.organisation, name=name)
    return lots.receive(
        ctx,
        crop_id=line.crop_id,
        line_id=line.pk,
        quantity=Quantity.of(12_000, Unit.GRAM),
        germination=0.92,
        tgw_g=55,
        tested_on=date(2027, 1, 10),
        seed_class=seed_class,
        label_number=label,
        received_on=min(ctx.today, date(2027, 2, 1)),
    )


class SeedCase(HouseCase):
    """A case in which an order of hybrid seed may be grown, in early spring."""

    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        advance(cls.ctx, SPRING)
        make_seed_house(cls.ctx)

    block: SeedBlock
    lot: Lot

    @classmethod
    def live_to_july(cls) -> Self:
        """Once for all tests of a class: `block` is sown and stands in July."""
        told = cls.teller()
        cls.block = told.sown()
        told.on(date(2027, 7, 1))
        return told

    @classmethod
    def live_to_clean_seed(cls) -> Self:
        """Once for all tests of a class: `block` is harvested, its seed is the clean `lot`."""
        told = cls.live_to_july()
        cls.lot = told.clean_lot(cls.block)
        return told

    def order(self, kilos: str = "1200 kg", **more: str) -> tuple[OrderLine, Batch]:
        given = {
            "crop": "Sunflower",
            "cultivar": "Testhybrid",
            "form": "seed",
            "quantity": kilos,
            "due": "2027-W44",
            "until": "2027-W46",
        }
        line = take_order(self.ctx, **{**given, **more})
        plan_lines(self.ctx, [line.pk])
        line.refresh_from_db()
        return line, Batch.objects.get(allocations__order_line=line)

    def laid_out(self, field: str = "Long field", **more: str) -> SeedBlock:
        _, batch = self.order(**more)
        place = Place.objects.get(organisation=self.ctx.organisation, name=field)
        made = self.post("/seed-blocks", {"batch_id": batch.pk, "field_id": place.pk, "bearing_deg": 0})
        return SeedBlock.objects.get(pk=made["block_id"])

    def sown(self, **more: str) -> SeedBlock:
        """A block with both lines sown in mid April."""
        block = self.laid_out(**more)
        female, male = parent_seed(self.ctx, "AA-1"), parent_seed(self.ctx, "RR-2", label="B-2")
        self.on(date(2027, 4, 15))
        for role, lot in (("F", female), ("M", male)):
            self.post(
                f"/seed-blocks/{block.pk}/sown",
                {"role": role, "lot_id": lot.pk, "kg": "3.5 kg", "on": "2027-04-15", "client_uuid": uid()},
            )
        return block

    def on(self, day: date) -> None:
        advance(self.ctx, day)

    def count_all(self, visit: int, **faults: int) -> dict[str, Any]:
        """Count every area of a visit in full; the faults lie in the first."""
        begun = self.post(f"/inspections/{visit}/begin")
        entries = []
        for area in range(1, begun["areas"] + 1):
            here = faults if area == 1 else {}
            looked = sum(n for name, n in here.items() if name != "weeds")
            entries.append(
                {"client_uuid": uid(), "area": area, "plants": begun["plants_per_area"] - looked, "faults": here}
            )
        counted: dict[str, Any] = self.post(f"/inspections/{visit}/counts", {"entries": entries})["inspection"]
        return counted

    def accept_all(self, block: SeedBlock) -> None:
        for visit in block.inspections.exclude(state="signed").order_by("number"):
            self.count_all(visit.pk, off_types=1)
            self.post(f"/inspections/{visit.pk}/sign", {"decision": "accept"})

    def load(self, block: SeedBlock, *, on: str, status: int = 200, **more: Any) -> Any:
        body = {
            "on": on,
            "gross": "9000 kg",
            "tare": "7200 kg",
            "moisture_percent": 12.0,
            "equipment_clean": True,
            "client_uuid": uid(),
        }
        return self.post(f"/seed-blocks/{block.pk}/harvest", {**body, **more}, status=status)

    def clean_lot(self, block: SeedBlock) -> Lot:
        """Seed of a block as far as clean: male out, harvested, dried, cleaned."""
        self.on(date(2027, 9, 10))
        self.post(
            f"/seed-blocks/{block.pk}/male-out", {"on": "2027-08-20", "how": "cut and destroyed", "client_uuid": uid()}
        )
        taken = self.load(block, on="2027-09-10")
        raw = taken["loads"][-1]["lot_id"]
        self.on(date(2027, 9, 14))
        self.post(f"/lots/{raw}/drying", {"on": "2027-09-12", "to_percent": 9, "client_uuid": uid()})
        balance = shown_of(Lot.objects.get(pk=raw))
        made = self.post(
            "/cleaning",
            {
                "on": "2027-09-14",
                "lots": [{"lot_id": raw, "kg": str(balance)}],
                "clean": "1500 kg",
                "screenings": f"{balance - 1510:.1f} kg",
                "client_uuid": uid(),
            },
        )
        return Lot.objects.get(pk=made["id"])

    def result(self, lot: Lot, kind: str, status: int = 200, **more: Any) -> Any:
        readings: dict[str, dict[str, Any]] = {
            "germination": {"normal": [92, 93, 91, 94]},
            "purity": {"pure_g": 99.2, "inert_g": 0.6, "other_g": 0.2},
            "moisture": {"duplicates": [8.9, 9.0]},
            "other_seeds": {"seeds_found": 1, "sample_g": 500},
        }
        body = {"kind": kind, "tested_on": str(self.ctx.today), "client_uuid": uid(), **readings[kind], **more}
        return self.post(f"/lots/{lot.pk}/results", body, status=status)

    def decide(self, lot: Lot, decision: str, status: int = 200, **more: Any) -> Any:
        return self.post(
            f"/lots/{lot.pk}/verdicts", {"decision": decision, "client_uuid": uid(), **more}, status=status
        )
