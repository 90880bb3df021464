"""What is printed for seed: the row plan, the supplier's own label, the quality declaration."""

import re
from io import BytesIO
from typing import Any

from pypdf import PdfReader

from aldrip.deliveries.models import Document
from aldrip.lots.models import Lot, Verdict
from aldrip.methods.services import save_seed_standard
from aldrip.orders.models import OrderLine
from aldrip_core.check_character import is_valid
from tests.server.house import uid
from tests.server.seed_house import SeedCase, sunflower
from tests.server.test_drilled import DrilledCase


class PrintCase(SeedCase):
    def pages(self, path: str) -> list[Any]:
        answer = self.get(path)
        self.assertEqual(answer["Content-Type"], "application/pdf")
        return list(PdfReader(BytesIO(answer.content)).pages)

    def drawn(self, page: Any) -> bytes:
        """What a page draws, with what stands in it as pictures made of lines."""
        found: bytes = page.get_contents().get_data()
        for one in page["/Resources"].get("/XObject", {}).values():
            found += one.get_object().get_data()
        return found

    def text(self, path: str) -> str:
        return " ".join(" ".join(page.extract_text().split()) for page in self.pages(path))


class RowPlans(PrintCase):
    def test_the_row_plan_says_what_the_planter_needs_and_agrees_with_the_screen(self) -> None:
        block = self.laid_out()
        seen = self.get(f"/seed-blocks/{block.pk}")
        pages = self.pages(f"/seed-blocks/{block.pk}/rows.pdf")
        text = " ".join(" ".join(page.extract_text().split()) for page in pages)
        width, height = (float(x) for x in (pages[0].mediabox.width, pages[0].mediabox.height))
        self.assertAlmostEqual(width / height, 297 / 210, places=2)  # A4 lying
        for said in (
            block.batch.code,
            "Long field",
            "2.25 ha",
            "Pattern FFFFMM",
            "0.75 m apart",
            "bearing 0°",
            "Planter of 6 rows",
            "Up is north",
        ):
            self.assertIn(said, text)
        for parent in seen["parents"]:
            self.assertIn(f"{parent['metres']:,.0f}", text)
            self.assertIn(f"{parent['plants']:,.0f}", text)
            self.assertIn(f"{parent['seed_kg']:,.1f}", text)
            self.assertIn(parent["line"], text)
        self.assertIn(f"{seen['rows']['female_share'] * 100:.1f} %", text)


class DrillPlans(DrilledCase, PrintCase):
    def test_a_drilled_field_prints_its_rate(self) -> None:
        block = self.drilled_block()
        text = self.text(f"/seed-blocks/{block.pk}/rows.pdf")
        self.assertIn("45.2 seeds a m², 152.9 kg/ha, 5.7 seeds a metre of row", text)
        self.assertIn("344.1", text)
        self.assertNotIn("Pattern", text)
        self.assertIn("allergy", text)  # the crop's own cautions
        card = self.text(f"/seed-blocks/{block.pk}/drill.pdf")
        self.assertIn("344.1 kg", card)
        self.assertIn("5.7 seeds", card)
        caught = 152.9 * 1000 / (10_000 / block.row_spacing_m) * 50  # kg/ha over the metres of a hectare
        self.assertRegex(card, rf"over 50 m\s*{caught:.1f} g")
        self.assertIn("engine off", card)


class LotPapers(PrintCase):
    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        cls.live_to_clean_seed().accept_all(cls.block)

    def results(self, **germination: Any) -> None:
        self.result(self.lot, "germination", **germination)
        for kind in ("purity", "moisture", "other_seeds"):
            self.result(self.lot, kind)

    def deliver(self, quantity: int = 1200) -> int:
        line = OrderLine.objects.get()
        body = {
            "order_id": line.order_id,
            "on": str(self.ctx.today),
            "client_uuid": uid(),
            "picks": [{"line_id": line.pk, "lot_id": self.lot.pk, "quantity": quantity}],
        }
        return int(self.post("/deliveries", body)["id"])

    def test_the_label_is_the_suppliers_own_and_carries_no_official_number(self) -> None:
        self.results()
        self.decide(self.lot, "release")
        self.post(f"/lots/{self.lot.pk}/seals", {"numbers": ["EC-4401", "EC-4402"]})
        pages = self.pages(f"/lots/{self.lot.pk}/label.pdf")
        text = " ".join(pages[0].extract_text().split())
        self.assertEqual(len(pages), 1)
        for said in (
            "Sunflower Testhybrid",
            "Helianthus annuus",
            self.lot.code,
            "certified 1",
            "93 %",
            "99.2 %",
            self.ctx.organisation.name,
            "no official certificate",
        ):
            self.assertIn(said, text)
        self.assertNotIn("EC-44", text)
        self.assertTrue(is_valid(self.lot.code))
        drawn = re.findall(rb"-?[\d.]+ -?[\d.]+ [ml]\b|[\d.]+ [\d.]+ -?[\d.]+ -?[\d.]+ re\b", self.drawn(pages[0]))
        self.assertGreater(len(drawn), 100)  # the QR code, as lines

    def test_the_declaration_says_numbers_limits_fields_and_that_it_is_no_certificate(self) -> None:
        self.results()
        self.decide(self.lot, "release")
        self.post(f"/lots/{self.lot.pk}/seals", {"numbers": ["EC-4401"]})
        text = self.text(f"/deliveries/{self.deliver()}/quality-declaration.pdf")
        order = OrderLine.objects.get().order
        for said in (
            order.number,
            order.customer,
            self.lot.code,
            "certified 1",
            "1,200 kg",
            "93 %",
            "at least",
            "by law",
            "Long field",
            "before flowering accepted",
            "Official label and seal numbers recorded: EC-4401",
            "no official certificate",
            "The law of the country and the authority's own labels stand before this paper",
        ):
            self.assertIn(said, text)
        for parent in Lot.objects.exclude(label_number=""):
            self.assertIn(f"{parent.code} {parent.label_number}", text)

    def test_what_was_handed_over_is_what_stays_written(self) -> None:
        self.results()
        self.decide(self.lot, "release")
        made = self.deliver()
        before = self.text(f"/deliveries/{made}/quality-declaration.pdf")
        kept = Document.objects.get(kind="quality declaration")
        self.result(self.lot, "germination", normal=[80, 81, 79, 82], reason="a complaint")
        self.ctx.organisation.name = "Another name"
        self.ctx.organisation.save()
        self.assertEqual(self.text(f"/deliveries/{made}/quality-declaration.pdf"), before)
        self.assertIn(kept.sha256[:12], before)

    def test_a_downgraded_lot_is_declared_by_the_class_that_it_leaves_with(self) -> None:
        save_seed_standard(
            self.ctx,
            {
                "crop_id": sunflower().pk,
                "seed_class": "quality-declared",
                "name": "House, quality-declared",
                "source": "invented",
                "limits": [{"attribute": "germination", "low": 70, "high": None, "required": True}],
            },
        )
        self.results(normal=[78, 80, 79, 81])
        self.decide(self.lot, "downgrade", seed_class="quality-declared")
        signed = Verdict.objects.get()
        self.assertEqual([(r["attribute"], r["outcome"]) for r in signed.results], [("germination", "pass")])
        self.assertIn("Downgraded from certified 1: Germination is 80 %", signed.sentence)
        line = OrderLine.objects.get()
        line.seed_class = "quality-declared"
        line.save()
        text = self.text(f"/deliveries/{self.deliver()}/quality-declaration.pdf")
        self.assertIn("House, quality-declared", text)
        self.assertIn("at least 70 %", text)
        self.assertNotIn("by law", text)

    def test_a_lot_of_another_class_is_not_handed_over_for_the_line(self) -> None:
        self.results()
        self.decide(self.lot, "release")
        OrderLine.objects.update(seed_class="basic")
        line = OrderLine.objects.get()
        body = {
            "order_id": line.order_id,
            "on": str(self.ctx.today),
            "client_uuid": uid(),
            "picks": [{"line_id": line.pk, "lot_id": self.lot.pk, "quantity": 100}],
        }
        told = self.post("/deliveries", body, status=422)["errors"][0]
        self.assertEqual(told["code"], "other_class")
        early = {**body, "on": "2027-09-13", "client_uuid": uid()}
        self.assertEqual(self.post("/deliveries", early, status=422)["errors"][0]["code"], "too_early")
