"""Parents are kept going as seed of the line itself: A with its maintainer, B and R alone, and they feed the next hybrid."""

from datetime import date
from typing import Any

from aldrip.batches.models import Batch
from aldrip.batches.starting import plan_lines
from aldrip.lots.models import Lot
from aldrip.methods.models import Line
from aldrip.orders.models import OrderLine
from aldrip.places.models import Place
from aldrip.seedcrops.models import SeedBlock
from tests.server.house import take_order, uid
from tests.server.seed_house import FIELD_STANDARD, SeedCase, parent_seed, sunflower


class Parents(SeedCase):
    def line(self, name: str, status: int = 200, **more: Any) -> Any:
        body = {"crop_id": sunflower().pk, "name": name, "to_flower_c_d": 1210, "tgw_g": 52, **more}
        return self.post("/lines", body, status=status)

    def ordered(self, cultivar: str, seed_class: str, **more: str) -> Batch:
        row = {
            "crop": "Sunflower",
            "cultivar": cultivar,
            "form": "seed",
            "quantity": "30 kg",
            "due": "2027-W46",
            **more,
        }
        line = take_order(self.ctx, **row)
        OrderLine.objects.filter(pk=line.pk).update(seed_class=seed_class)
        plan_lines(self.ctx, [line.pk])
        return Batch.objects.get(allocations__order_line=line)

    def laid(self, batch: Batch, field: str = "Far field") -> SeedBlock:
        place = Place.objects.get(name=field)
        made = self.post("/seed-blocks", {"batch_id": batch.pk, "field_id": place.pk, "bearing_deg": 0})
        return SeedBlock.objects.get(pk=made["block_id"])

    def test_an_a_line_is_increased_with_its_maintainer_and_its_seed_is_the_a_line(self) -> None:
        keeper = self.line("BB-3", role="B")
        self.line("AA-3", role="A", maintainer_id=keeper["id"])
        self.post(
            "/field-standards", {"crop_id": sunflower().pk, **FIELD_STANDARD, "seed_class": "basic", "name": "Basic"}
        )
        batch = self.ordered("AA-3", "basic")
        self.assertEqual(batch.method_snapshot["layout"]["step"], "increase")
        block = self.laid(batch)
        self.assertEqual((block.step, block.seed_class, block.pattern), ("increase", "basic", "FFMM"))
        self.assertEqual({p.role: p.line.name for p in block.parents.all()}, {"F": "AA-3", "M": "BB-3"})
        # The increase asks for its own distance, not for that of a hybrid.
        corners = [(960.0, 900.0), (1060.0, 900.0), (1060.0, 1060.0), (960.0, 1060.0)]
        body = {"name": "Over there", "crop_id": sunflower().pk, "kind": "other cultivar", "year": 2027}
        self.post("/neighbours", {**body, "seen_on": str(self.ctx.today), "corners_m": corners})
        breach = self.get(f"/seed-blocks/{block.pk}/isolation")["neighbours"][0]
        self.assertEqual(breach["required_m"], 1500)
        self.assertLess(breach["distance_m"], 1500)
        for role, name in (("F", "AA-3"), ("M", "BB-3")):
            lot = parent_seed(self.ctx, name, seed_class="pre-basic", label=f"P-{role}")
            self.on(block.parents.get(role=role).sow_on)
            body = {"role": role, "lot_id": lot.pk, "kg": "2 kg", "on": str(self.ctx.today), "client_uuid": uid()}
            self.post(f"/seed-blocks/{block.pk}/sown", body)
        lot = self.clean_lot(block)
        self.assertEqual((lot.line.name if lot.line else "", lot.seed_class), ("AA-3", "basic"))
        self.assertEqual(
            {one.parent.line.name for one in Lot.objects.get(made_into__child=lot).made_from.all()}, {"AA-3", "BB-3"}
        )  # type: ignore[union-attr]

    def test_a_restorer_is_grown_alone_by_a_method_of_one_line(self) -> None:
        self.line("RR-4", role="R")
        batch = self.ordered("RR-4", "basic")
        self.assertEqual(batch.method_snapshot["way"], "drilled")
        block = self.laid(batch)
        self.assertEqual([(p.role, p.line.name) for p in block.parents.all()], [("S", "RR-4")])
        self.assertEqual((block.step, block.seed_class), ("open", "basic"))

    def test_what_is_increased_is_told_where_it_is_missing(self) -> None:
        batch = self.ordered("RR-2", "basic")
        self.laid(batch)
        hybrid = self.laid_out(order="the-hybrid", kilos="400 kg")
        rungs = self.get(f"/seed-blocks/{hybrid.pk}")["generations"]["rungs"]
        male = next(rung for rung in rungs if rung["key"] == "seed.M")
        self.assertIn(f"{batch.code} grows about", male["words"])

    def test_a_by_b_is_no_hybrid_and_the_refusal_says_what_to_enter(self) -> None:
        keeper = self.line("BB-3", role="B")
        female = self.line("AA-3", role="A", maintainer_id=keeper["id"])
        refused = self.line("AA-3 x BB-3", 422, female_id=female["id"], male_id=keeper["id"])
        self.assertEqual(refused["errors"][0]["code"], "maintainer")
        self.assertIn("order seed of AA-3", refused["errors"][0]["message"])
        self.assertEqual(
            self.line("RR-9", 422, role="R", maintainer_id=keeper["id"])["errors"][0]["code"], "not_a_line"
        )

    def test_a_hybrid_still_goes_by_the_method_of_hybrids(self) -> None:
        _, batch = self.order(kilos="300 kg")
        self.assertEqual(batch.method_snapshot["layout"]["step"], "hybrid")
        self.assertEqual(Line.objects.get(name="Testhybrid").maintainer, None)
        self.assertGreater(batch.stages.get(key="sow").planned.lower, date(2027, 3, 1))
