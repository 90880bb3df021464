"""Insect traps by the API: read, read again, over what is acted on, due on the day sheet, taken back."""

from datetime import timedelta
from typing import Any

from django.db import connection
from django.test.utils import CaptureQueriesContext

from aldrip.accounts.models import AuditEvent
from aldrip.places.models import Place
from aldrip.stockplants.models import TrapCount
from tests.server.house import HouseCase, advance, uid

ONE = timedelta(days=1)


class Traps(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        self.place = Place.objects.filter(kind="bench").order_by("pk")[0]

    def read(self, found: str, *, status: int = 200, sure: str = "", **more: Any) -> Any:
        body = {"place_id": self.place.pk, "insect": "Whitefly", "found": found, "traps": "5", "client_uuid": uid()}
        return self.post("/traps", {**body, **more}, status=status, sure=sure)

    def test_read_week_by_week_and_told_when_it_is_more_than_chance(self) -> None:
        key = uid()
        self.assertEqual(self.read("6", client_uuid=key)[0]["sentence"], "1.2 a trap and week.")
        self.assertEqual(len(self.read("6", client_uuid=key)[0]["counts"]), 1)  # sent twice
        advance(self.ctx, self.ctx.today + 7 * ONE)
        told = self.read("9", insect="whitefly ")[0]
        self.assertEqual((told["insect"], told["more"]), ("Whitefly", False))
        self.assertIn("chance may be all of it", told["sentence"])
        advance(self.ctx, self.ctx.today + 14 * ONE)
        told = self.read("120", days="14", act_from="8")[0]
        self.assertEqual((told["more"], told["over"], told["counts"][0]["a_week"]), (True, True, 12.0))
        self.assertIn("more than the 1.8 before. You act from 8", told["sentence"])
        # What was said once to act from holds for the next reading, and goes down with it.
        advance(self.ctx, self.ctx.today + 7 * ONE)
        told = self.read("")[0]
        self.assertEqual((told["over"], told["act_from"], told["counts"][0]["found"]), (False, 8.0, 0))
        self.assertIn("less than the 12 before", told["sentence"])

    def test_another_colour_place_or_insect_is_a_row_of_its_own_and_what_is_over_comes_first(self) -> None:
        other = Place.objects.exclude(pk=self.place.pk).order_by("pk")[0]
        self.read("3")
        self.read("3", colour="blue")
        self.read("3", insect="thrips", place_id=other.pk, act_from="0.5")
        rows = self.get("/traps")
        self.assertEqual([one["over"] for one in rows], [True, False, False])
        with CaptureQueriesContext(
            connection,
        ) as few:
            self.get("/traps")
        for n in range(12):
            self.read("4", insect=f"moth {n}")
        with CaptureQueriesContext(connection) as many:
            self.get("/traps")
        self.assertEqual(len(few), len(many))

    def test_due_on_the_day_sheet_until_they_are_read(self) -> None:
        def asked(day: Any) -> list[Any]:
            return [one for one in self.get(f"/day?day={day}")["beside"] if "traps" in one["words"]]

        start = self.ctx.today
        self.read("3")
        self.assertEqual(asked(start + 6 * ONE), [])
        self.assertEqual(asked(start + 7 * ONE)[0]["words"], f"Read the traps in {self.place.name}.")
        advance(self.ctx, start + 10 * ONE)
        self.assertEqual([one["wrong"] for one in asked(self.ctx.today)], [True])
        self.read("4")
        self.assertEqual(asked(self.ctx.today), [])
        advance(self.ctx, start + 400 * ONE)  # a year later nobody is nagged
        self.assertEqual(asked(self.ctx.today), [])

    def test_what_cannot_be_is_refused_and_a_second_of_the_day_is_asked_about(self) -> None:
        self.read("3")
        for more, field in (
            ({"insect": " "}, "insect"),
            ({"traps": "0"}, "traps"),
            ({"days": "4000"}, "days"),
            ({"found": "-2"}, "found"),
            ({"act_from": "0"}, "act_from"),
            ({"on": str(self.ctx.today + ONE)}, "on"),
            ({"found": "12"}, "found"),
        ):
            with self.subTest(field):
                self.assertEqual(self.read(**{"found": "3", **more}, status=422)["errors"][0]["field"], field)
        self.assertEqual(TrapCount.objects.count(), 1)
        self.read("12", sure="often")
        event = AuditEvent.objects.filter(action="traps.count").latest("id")
        told = self.get(f"/acts/{event.pk}/back")
        known = [one["id"] for one in (*told["events"], *told["rests"])]
        self.post(f"/acts/{event.pk}/take-back", {"reason": "counted twice", "known": known})
        self.assertEqual([one["found"] for one in self.get("/traps")[0]["counts"]], [3])
