"""Boxes: packed, on the day sheet and the label until their hour, asked about after it, unpacked, and what is never packed."""

from datetime import timedelta
from io import BytesIO
from typing import Any

from pypdf import PdfReader

from aldrip.accounts.context import act
from aldrip.diary import clocks
from aldrip.lots.models import Lot
from aldrip.methods.models import Crop
from tests.server.house import HouseCase, advance, member, uid


class Packing(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        self.crop = Crop.objects.get(slug="lavender", organisation=None)
        self.lot = self.there("600 plants", "rooted cutting")

    def there(self, quantity: str, form: str) -> Lot:
        made = self.post("/lots", {"crop_id": self.crop.pk, "quantity": quantity, "form": form})
        return Lot.objects.get(pk=made["id"])

    def pack(self, lot: Lot | None = None, status: int = 200, **more: str) -> Any:
        return self.post(f"/lots/{(lot or self.lot).pk}/pack", more, status=status)

    def test_packed_it_runs_by_the_clock_is_on_its_label_and_comes_out_again(self) -> None:
        self.pack(ago="3 h")
        self.lot.refresh_from_db()
        assert self.lot.use_by is not None
        self.assertAlmostEqual((self.lot.use_by - self.ctx.now) / timedelta(hours=21), 1, delta=0.01)
        self.assertIn(self.lot.code, str(self.get("/clocks")["others"]))
        shown = self.get(f"/lots/{self.lot.pk}")["use_by_words"]
        self.assertTrue(shown.endswith(f"{self.ctx.local(self.lot.use_by):%H:%M}"), shown)
        self.assertEqual(self.pack(status=422)["errors"][0]["code"], "packed")
        text = " ".join(
            page.extract_text()
            for page in PdfReader(BytesIO(self.get(f"/lots/{self.lot.pk}/packed.pdf").content)).pages
        )
        self.assertIn(f"{self.ctx.local(self.lot.use_by):%H:%M}", text)
        self.post(f"/lots/{self.lot.pk}/unpack", {})
        self.lot.refresh_from_db()
        self.assertEqual((self.lot.treatment, self.lot.use_by), ("", None))
        self.assertEqual(self.post(f"/lots/{self.lot.pk}/unpack", {}, status=422)["errors"][0]["code"], "not_packed")
        self.assertEqual(self.get(f"/lots/{self.lot.pk}/packed.pdf", status=422)["errors"][0]["code"], "not_packed")

    def test_past_its_hour_the_label_says_so_and_whoever_uses_it_is_asked(self) -> None:
        Lot.objects.filter(pk=self.lot.pk).update(form="plant")
        self.pack(ago="1 d", hours="12")
        text = " ".join(
            page.extract_text()
            for page in PdfReader(BytesIO(self.get(f"/lots/{self.lot.pk}/packed.pdf").content)).pages
        )
        self.assertIn("over", text)
        body = {"crop_id": self.crop.pk, "mothers": "5", "lot_id": self.lot.pk, "client_uuid": uid()}
        asked = self.post("/mothers", body, status=422, sure="")
        self.assertIn("was to be used within its time after packing", asked["errors"][0]["message"])
        self.post("/mothers", body, sure="use_by")

    def test_what_was_done_to_it_before_stays_with_it(self) -> None:
        Lot.objects.filter(pk=self.lot.pk).update(treatment="a dip")
        self.pack()
        self.lot.refresh_from_db()
        self.assertEqual(self.lot.treatment, "a dip; packing")
        self.post(f"/lots/{self.lot.pk}/unpack", {})
        self.lot.refresh_from_db()
        self.assertEqual(self.lot.treatment, "a dip")

    def test_a_dip_and_a_box_do_not_take_each_other_s_hour(self) -> None:
        until = self.ctx.now + timedelta(hours=1)
        Lot.objects.filter(pk=self.lot.pk).update(use_by=until, treatment="cutting", form="cutting")
        self.lot.refresh_from_db()
        spec = clocks.ClockSpec("Dip", [{"name": "Dip", "minutes": 1, "at_c": None}])
        clock = act(clocks.begin)(self.ctx, spec, subject=self.lot)
        self.assertEqual(self.pack(status=422)["errors"][0]["code"], "in_treatment")
        self.post(f"/clocks/{clock.pk}/end", {"uuid": uid()}, sure="short")
        self.lot.refresh_from_db()
        self.assertEqual((self.lot.treatment, self.lot.use_by), ("cutting; dip", until), "the dip gave it no more time")
        self.assertEqual(self.pack(status=422)["errors"][0]["code"], "waits")

    def test_packed_by_mistake_it_is_taken_back(self) -> None:
        before = self.get(f"/lots/{self.lot.pk}")
        self.pack()
        event = next(one for one in self.get("/audit") if one["sentence"].startswith("Packed"))
        self.post(f"/acts/{event['id']}/take-back", {"reason": "the other ones", "known": [event["id"]]})
        self.assertEqual(self.get(f"/lots/{self.lot.pk}"), before)

    def test_what_cannot_be_is_refused(self) -> None:
        seed = self.there("5 g", "seed")
        self.assertEqual(self.pack(seed, status=422)["errors"][0]["code"], "other_form")
        for more, field in (({"hours": "0"}, "hours"), ({"hours": "2 weeks"}, "hours"), ({"ago": "9 d"}, "ago")):
            self.assertEqual(self.pack(status=422, **more)["errors"][0]["field"], field)
        Lot.objects.filter(pk=self.lot.pk).update(use_by=self.ctx.now + timedelta(hours=2), treatment="cutting")
        self.assertEqual(self.pack(status=422)["errors"][0]["code"], "waits")

    def test_a_year_later_it_is_over_and_a_viewer_packs_nothing(self) -> None:
        self.pack()
        advance(self.ctx, self.ctx.today + timedelta(days=365))
        self.assertEqual(self.get("/clocks")["others"], [])
        self.client.force_login(member(self.ctx, "looker", "viewer"))
        self.post(f"/lots/{self.lot.pk}/unpack", {}, status=403)
