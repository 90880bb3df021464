"""What cannot be so in a seed crop is asked about; what was entered wrongly is corrected, and what rests on it follows."""

from datetime import date, timedelta
from typing import Any

from aldrip.accounts.models import AuditEvent
from aldrip.methods.models import Line
from aldrip.seedcrops.flowering import match_of
from aldrip.seedcrops.laying import load_block
from aldrip.seedcrops.models import FlowerObservation, InspectionCount, MaleRemoval, SeedBlock
from aldrip_core.plausible import how_early
from tests.server.house import uid
from tests.server.seed_house import SeedCase


class Asked(SeedCase):
    """S12: each is asked about once, kept when said to be so, with the question in its record."""

    def setUp(self) -> None:
        super().setUp()
        self.block = self.sown()

    def ask(self, path: str, body: dict[str, Any], ask: str) -> Any:
        plain = self.client.post(f"/api{path}", body, content_type="application/json")
        self.assertEqual((plain.status_code, plain.json().get("ask")), (422, ask), plain.content[:300])
        before = AuditEvent.objects.count()
        sure = self.client.post(f"/api{path}", body, content_type="application/json", headers={"X-Sure": ask})
        self.assertEqual(sure.status_code, 200, sure.content[:300])
        said = [
            e.after["said_to_be_so"]
            for e in AuditEvent.objects.order_by("id")[before:]
            if e.after and "said_to_be_so" in e.after
        ]
        self.assertEqual(said, [[plain.json()["errors"][0]["message"]]])
        return plain.json()["errors"][0]

    def test_a_male_that_is_taken_out_before_it_flowered(self) -> None:
        self.on(date(2027, 4, 18))
        told = self.ask(
            f"/seed-blocks/{self.block.pk}/male-out",
            {"on": "2027-04-18", "how": "cut and destroyed", "client_uuid": uid()},
            "male_out",
        )
        self.assertIn("without pollen", told["message"])

    def test_seed_that_is_cut_in_spring(self) -> None:
        self.on(date(2027, 4, 20))
        self.post(
            f"/seed-blocks/{self.block.pk}/male-out",
            {"on": "2027-04-18", "how": "cut and destroyed", "client_uuid": uid()},
        )
        body = {
            "on": "2027-04-20",
            "gross": "8,300 kg",
            "tare": "7,500 kg",
            "moisture_percent": 9.5,
            "equipment_clean": True,
            "client_uuid": uid(),
        }
        told = self.ask(f"/seed-blocks/{self.block.pk}/harvest", body, "harvest_day")
        self.assertIn("5 days after", told["message"])

    def test_a_stage_that_comes_far_too_soon_after_the_last(self) -> None:
        stages = {one["slug"]: one["share"] for one in self.block.batch.crop.stages_seen}
        first, *_, last = sorted(stages, key=lambda slug: stages[slug])
        foreseen = match_of(load_block(self.ctx, self.block.pk)).parents["F"].found.first
        seen = date(2027, 4, 15) + (foreseen - date(2027, 4, 15)) * stages[first]
        self.on(seen + timedelta(days=3))
        path = f"/seed-blocks/{self.block.pk}/seen"
        self.call("post", path, {"role": "F", "stage": first, "on": str(seen), "client_uuid": uid()})
        self.ask(path, {"role": "F", "stage": last, "on": str(seen + timedelta(days=2)), "client_uuid": uid()}, "seen")

    def test_a_visit_long_before_its_stage_or_on_a_field_that_is_cut(self) -> None:
        first, *_, last = self.block.inspections.order_by("number")
        self.on(date(2027, 4, 16))
        self.assertGreater((first.planned_on - self.ctx.today).days, 14)
        self.ask(f"/inspections/{first.pk}/begin", {}, "visit")
        self.clean_lot(self.block)
        told = self.ask(f"/inspections/{last.pk}/begin", {}, "visit")
        self.assertIn("was cut on", told["message"])

    def test_what_comes_about_when_it_was_foreseen_is_not_asked_about(self) -> None:
        for since, on, foreseen in ((15, 35, 40), (1, 9, 10), (1, 2, 12)):
            day = [date(2027, 3, 1) + timedelta(days=n) for n in (since, on, foreseen)]
            self.assertIsNone(how_early(since=day[0], on=day[1], foreseen=day[2]))
        foreseen = match_of(load_block(self.ctx, self.block.pk)).parents["M"].found.first
        self.on(foreseen + timedelta(days=6))
        flower = max(self.block.batch.crop.stages_seen, key=lambda one: one["share"])
        body = {"role": "M", "stage": flower["slug"], "on": str(foreseen + timedelta(days=6)), "client_uuid": uid()}
        plain = self.client.post(f"/api/seed-blocks/{self.block.pk}/seen", body, content_type="application/json")
        self.assertEqual(plain.status_code, 200, plain.content)


class Corrected(SeedCase):
    """S19, S20."""

    def setUp(self) -> None:
        super().setUp()
        self.block = self.sown()
        self.on(date(2027, 6, 20))

    def first(self, role: str) -> date:
        return match_of(load_block(self.ctx, self.block.pk)).parents[role].found.first

    def test_the_heat_sum_of_a_line_is_corrected_on_its_form_and_its_blocks_flower_by_it(self) -> None:
        line = Line.objects.get(name="AA-1")
        before = self.first("F")
        self.post(f"/library/line/{line.slug}/typed", {"typed": {"to_flower_c_d": "1400", "tgw_g": "61"}})
        line = self.block.parents.get(role="F").line
        line.refresh_from_db()
        self.assertEqual((line.to_flower_c_d, line.tgw_g), (1400, 61))
        self.assertGreater(self.first("F"), before)

    def test_what_was_seen_of_a_parent_is_corrected_or_taken_back_and_the_forecast_follows(self) -> None:
        foreseen = self.first("M")
        stage = max(self.block.batch.crop.stages_seen, key=lambda one: one["share"])
        body = {"role": "M", "stage": stage["slug"], "client_uuid": uid()}
        self.post(f"/seed-blocks/{self.block.pk}/seen", {**body, "on": "2027-06-02"})
        self.assertEqual(self.first("M"), date(2027, 6, 2))
        old = FlowerObservation.objects.get()
        fix = {**body, "on": "2027-06-17", "replaces": old.pk, "reason": "read the wrong label", "client_uuid": uid()}
        self.post(f"/seed-blocks/{self.block.pk}/seen", fix)
        self.assertEqual(self.first("M"), date(2027, 6, 17))
        for _ in range(2):
            event = AuditEvent.objects.filter(action="block.seen", undone_by=None).order_by("-id")[0]
            back = self.get(f"/acts/{event.pk}/back")
            known = [one["id"] for one in (*back["events"], *back["rests"])]
            self.post(f"/acts/{event.pk}/take-back", {"reason": "another block", "known": known})
        self.assertEqual((FlowerObservation.objects.count(), self.first("M")), (0, foreseen))

    def test_a_male_noted_as_out_by_a_slip_stands_again(self) -> None:
        self.post(
            f"/seed-blocks/{self.block.pk}/male-out",
            {"on": "2027-06-20", "how": "cut and destroyed", "client_uuid": uid()},
        )
        event = AuditEvent.objects.get(action="block.male_out")
        self.post(f"/acts/{event.pk}/take-back", {"reason": "wrong block", "known": [event.pk]})
        self.assertFalse(MaleRemoval.objects.exists())
        refused = self.load(SeedBlock.objects.get(), on="2027-06-20", status=422)
        self.assertEqual(refused["errors"][0]["code"], "male_stands")

    def test_a_slip_on_the_count_sheet_is_taken_back_after_a_reload_and_from_another_phone(self) -> None:
        visit = self.block.inspections.order_by("number")[0]
        self.post(f"/inspections/{visit.pk}/begin")
        taps = [{"client_uuid": uid(), "area": 1, "plants": n, "faults": {}} for n in (40, 25)]
        taps.append({"client_uuid": uid(), "area": 2, "plants": 0, "faults": {"off_types": 7}})
        self.post(f"/inspections/{visit.pk}/counts", {"entries": taps})
        sheet = self.get(f"/inspections/{visit.pk}")  # as another phone opens it
        self.assertEqual([one["words"] for one in sheet["last"]], ["7 off-types", "25 plants", "40 plants"])
        slip = sheet["last"][0]["uuid"]
        back = {"client_uuid": uid(), "area": 2, "plants": 0, "faults": {}, "takes_back": slip}
        after = self.post(f"/inspections/{visit.pk}/counts", {"entries": [back]})["inspection"]
        self.assertEqual((after["plants"], after["faults"].get("off_types", 0)), (65, 0))
        self.assertNotIn(slip, [one["uuid"] for one in after["last"]])
        again = self.post(f"/inspections/{visit.pk}/counts", {"entries": [{**back, "client_uuid": uid()}]})
        self.assertFalse(again["entries"][0]["kept"])
        self.assertEqual(InspectionCount.objects.count(), 4)
