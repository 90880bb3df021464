"""Weather by file: what is read, what it does to plans, what it threatens, and how it is taken back."""

from datetime import date, timedelta
from io import BytesIO
from typing import Any

from django.core.files.uploadedfile import SimpleUploadedFile
from openpyxl import Workbook

from aldrip.accounts.models import AuditEvent
from aldrip.batches.models import Batch
from aldrip.batches.weather import frosts_ahead
from aldrip.diary.models import Task
from aldrip.places.models import Place, Site, WeatherDay
from tests.server.house import TODAY, HouseCase, advance, seed_lot

ONE = timedelta(days=1)


def rows(first: date, *days: tuple[float, float]) -> str:
    told = [f"{first + n * ONE},{low},{high}" for n, (low, high) in enumerate(days)]
    return "\n".join(["Date,Lowest (°C),Highest (°C)", *told])


class WeatherByFile(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        self.site = Site.objects.get()
        self.path = f"/sites/{self.site.pk}/weather"

    def bring(self, content: str | bytes, status: int = 200, name: str = "days.csv") -> Any:
        data = content if isinstance(content, bytes) else content.encode()
        answer = self.client.post(f"/api{self.path}/file", {"file": SimpleUploadedFile(name, data)})
        self.assertEqual(answer.status_code, status, answer.content)
        return answer.json()

    def known(self) -> dict[date, tuple[float, float, bool]]:
        return {one.day: (one.low_c, one.high_c, one.forecast) for one in WeatherDay.objects.all()}

    def decisions(self, code: str) -> list[dict[str, Any]]:
        return [one for one in self.get("/season-line")["decisions"] if one["code"] == code]

    def test_days_are_read_up_to_today_and_forecast_from_then_on(self) -> None:
        told = self.bring(rows(TODAY - 2 * ONE, *[(12, 25)] * 6))
        self.assertEqual(
            told["message"], "3 days read and 3 days forecast: plans made or changed from now on reckon with it."
        )
        self.assertEqual([one[2] for one in self.known().values()], [False] * 3 + [True] * 3)
        shown = self.get(self.path)
        self.assertEqual((shown["read_until"], shown["forecast_until"]), (str(TODAY), str(TODAY + 3 * ONE)))
        self.assertEqual(shown["days"][0]["mean_c"], 18.5)

    def test_another_forecast_replaces_the_last_and_what_was_read_replaces_both(self) -> None:
        self.bring(rows(TODAY + ONE, *[(12, 25)] * 10))
        self.bring(rows(TODAY + ONE, (14, 30), (15, 31)))
        self.assertEqual(set(self.known()), {TODAY + ONE, TODAY + 2 * ONE})
        advance(self.ctx, TODAY + ONE)
        self.bring(rows(TODAY + ONE, (9, 19)))
        self.assertEqual(self.known()[TODAY + ONE], (9, 19, False))
        self.assertEqual(self.known()[TODAY + 2 * ONE], (15, 31, True))
        self.post(f"{self.path}/drop", {})
        self.assertEqual(set(self.known()), {TODAY + ONE})

    def test_what_cannot_be_read_is_told_by_row_and_nothing_is_kept(self) -> None:
        text = "day;min;max;mean\n2027-07-01;57;82;\n07/02/2027;12;20;\n3 Jul 2027;20;12;\n4.7.2027;10;20;30\n2027-12-01;1;2;\n2027-07-05;x;9;\n2027-07-06;−1,5;3;"
        told = self.bring(text, status=422)["errors"]
        self.assertEqual(
            [(one["field"], one["code"]) for one in told],
            [
                ("rows.2.low_c", "out_of_range"),
                ("rows.3.day", "unreadable"),
                ("rows.4.high_c", "crossed"),
                ("rows.5.mean_c", "crossed"),
                ("rows.6.day", "too_far"),
                ("rows.7.low_c", "unreadable"),
            ],
        )
        self.assertIn("could be two days", told[1]["message"])
        self.assertEqual(self.known(), {})
        for content, code in (("date,rain\n2027-07-01,4", "headings"), ("", "empty"), ("a,b", "empty")):
            self.assertEqual(self.bring(content, status=422)["errors"][0]["code"], code)
        winter = rows(date(2027, 1, 11), (39, 50), (41, 52))  # °F that could be °C
        self.assertEqual(self.bring(winter, status=422)["errors"][0]["code"], "another_climate")
        twice = rows(TODAY, (1, 9)) + f"\n{TODAY},2,9"
        self.assertEqual(self.bring(twice, status=422)["errors"][0]["code"], "twice")

    def test_a_workbook_is_read_like_a_table(self) -> None:
        book = Workbook()
        for row in (["Date", "Min", "Max", "Mean"], [TODAY, 11.5, 26, 17]):
            book.active.append(row)
        out = BytesIO()
        book.save(out)
        self.bring(out.getvalue(), name="days.xlsx")
        self.assertEqual(WeatherDay.objects.get().mean_c, 17)

    def test_a_cold_spell_makes_a_plan_begin_sooner_and_taking_it_back_ends_that(self) -> None:
        """Only what the weather of its days does: the same question before, with it, and after."""
        Place.objects.filter(kind__in=("bench", "tunnel")).update(set_point_c=None)
        seed_lot(self.ctx)
        asked = {"crop_id": seed_lot(self.ctx).crop_id, "form": "plug", "quantity": "4000", "due": "week 31"}

        def sown() -> str:
            return str(self.post("/orders/can-we-take-it", asked)["sentence"])

        before = sown()
        self.bring(rows(TODAY + ONE, *[(1, 9)] * 16))
        cold = sown()
        self.assertNotEqual(cold, before)
        entry = AuditEvent.objects.filter(action="places.weather").latest("pk")
        self.post(f"/acts/{entry.pk}/take-back", {"reason": "another site", "known": [entry.pk]})
        self.assertEqual(self.known(), {})
        self.assertEqual(sown(), before)
        self.bring(rows(TODAY + ONE, *[(1, 9)] * 16))
        self.assertEqual(sown(), cold)

    def standing(self) -> Batch:
        seed_lot(self.ctx)
        _, batch = self.planned(quantity="4000", due="2027-W33")
        sow = batch.stages.get(key="sow").planned.lower
        advance(self.ctx, sow)
        self.post(f"/batches/{batch.pk}/sown", {"on": str(sow), "trays": 30})
        return batch

    def test_frost_is_told_only_where_plants_stand_and_until_they_are_covered(self) -> None:
        night = TODAY + 3 * ONE
        self.bring(rows(night, (-4, 6), (-2, 7), (3, 9), (-1, 5)))
        self.assertEqual(self.decisions("frost"), [])  # nothing stands anywhere
        batch = self.standing()
        today = self.ctx.today
        out = batch.stages.get(key="grow").occupancies.get()
        cold = Place.objects.get(name="Tunnel")
        cold.excess_c = 1
        cold.save()
        out.place, out.during = cold, (today, today + 40 * ONE)
        out.save()
        self.bring(rows(today + 3 * ONE, (-4, 6), (-2, 7), (3, 9), (-1, 5)))
        found = frosts_ahead(self.ctx)
        self.assertEqual(
            [(one.first, one.last, one.worst_c) for one in found],
            [(today + 3 * ONE, today + 4 * ONE, -3), (today + 6 * ONE, today + 6 * ONE, 0)],
        )
        told = self.decisions("frost")
        self.assertEqual(len(told), 2)
        self.assertIn("−3 °C is forecast from", told[0]["sentence"])
        self.assertIn("where 1 batch stands: Tunnel.", told[0]["sentence"])
        self.post(f"/sites/{self.site.pk}/cover", {"first": str(today + 3 * ONE)})
        task = Task.objects.get(kind="cover")
        self.assertEqual((task.due_from, task.due_to, task.place), (today + 3 * ONE, today + 5 * ONE, cold))
        self.assertEqual(len(self.decisions("frost")), 1)
        again = self.post(f"/sites/{self.site.pk}/cover", {"first": str(today + 3 * ONE)}, status=422)
        self.assertEqual(again["errors"][0]["code"], "there")
        none = self.post(f"/sites/{self.site.pk}/cover", {"first": str(today + 5 * ONE)}, status=422)
        self.assertEqual(none["errors"][0]["code"], "no_frost")
        Task.objects.update(state="not_done")
        self.assertEqual(len(self.decisions("frost")), 2)
        Task.objects.update(state="done")
        self.assertEqual(len(self.decisions("frost")), 1)
        # Colder than was thought, and a night longer: the covering of before does not do.
        self.bring(rows(today + 3 * ONE, (-4, 6), (-2, 7), (-3, 9)))
        self.assertEqual([one["by"] for one in self.decisions("frost")], [str(today + 3 * ONE)])
        Place.objects.update(set_point_c=4)
        self.assertEqual(self.decisions("frost"), [])  # heated

    def test_heat_in_which_seed_rests_is_told_with_its_days(self) -> None:
        batch = self.standing()
        stage = batch.stages.get(key="germinate")
        stands = stage.occupancies.get()
        stands.place = Place.objects.get(name="Bench 1")
        stands.save()
        first = stands.during.lower
        snapshot = batch.method_snapshot
        next(one for one in snapshot["stages"] if one["key"] == "germinate")["ceiling_c"] = 28
        Batch.objects.filter(pk=batch.pk).update(method_snapshot=snapshot)
        advance(self.ctx, first)
        self.assertEqual(self.decisions("heat"), [])  # nothing is forecast
        self.bring(rows(first + ONE, (20, 33)))
        told = self.decisions("heat")
        self.assertEqual(len(told), 1)
        self.assertRegex(
            told[0]["sentence"], rf"^Up to 36 °C in Bench 1 on \w+ \d+ \w+: Pak choi {batch.code} rests above 28 °C\.$"
        )
        # Shading on the day sheet answers it, until it is not done, or the heat lasts longer than it was meant for.
        shade = f"/sites/{self.site.pk}/shade"
        self.post(shade, {"batch_id": batch.pk})
        self.assertEqual(self.decisions("heat"), [])
        task = Task.objects.get(kind="shade")
        self.assertEqual((task.due_from, task.due_to), (first + ONE, first + 2 * ONE))
        self.assertEqual([one["shaded"] for one in self.get(self.path)["heats"]], [True])
        self.assertEqual(self.post(shade, {"batch_id": batch.pk}, status=422)["errors"][0]["code"], "there")
        Task.objects.filter(pk=task.pk).update(state="not_done")
        self.assertEqual(len(self.decisions("heat")), 1)
        Task.objects.filter(pk=task.pk).update(state="done")
        self.bring(rows(first + ONE, (20, 33), (20, 34)))
        self.assertEqual(len(self.decisions("heat")), 1)
        self.bring(rows(first + ONE, (12, 24), (12, 24)))
        self.assertEqual(self.decisions("heat"), [])
        self.assertEqual(self.post(shade, {"batch_id": batch.pk}, status=422)["errors"][0]["code"], "no_heat")

    def test_ten_days_for_practice_are_the_same_all_day_and_another_house_has_its_own(self) -> None:
        self.post(f"{self.path}/practice", {})
        days = self.known()
        self.assertEqual((min(days), max(days)), (TODAY + ONE, TODAY + 10 * ONE))
        self.post(f"{self.path}/practice", {})
        self.assertEqual(self.known(), days)
        advance(self.ctx, TODAY + ONE)
        self.post(f"{self.path}/practice", {})
        self.assertNotEqual(self.known()[TODAY + 2 * ONE], days[TODAY + 2 * ONE])
        self.ctx.organisation.practice_date = None
        self.ctx.organisation.save()
        told = self.post(f"{self.path}/practice", {}, status=422)
        self.assertEqual(told["errors"][0]["code"], "not_practice")
