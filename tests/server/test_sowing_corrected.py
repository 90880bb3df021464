"""A sowing typed wrong is put right where it stands; nothing that was recorded since has to be entered again."""

from datetime import timedelta
from decimal import Decimal

from aldrip.accounts.models import AuditEvent
from aldrip.diary.models import Task
from aldrip.places.models import Site
from tests.server.house import SURE, HouseCase, advance, seed_lot, uid
from tests.server.test_taken_back import differences, rows_now


class SowingCorrected(HouseCase):
    """830 trays typed for 83, found after it was counted, moved on and lost of."""

    def setUp(self) -> None:
        super().setUp()
        # So mild that no seed need lie cool first: where it stood is recorded, and stays where it was.
        Site.objects.filter(organisation=self.ctx.organisation).update(monthly_c=[14] * 12)
        self.ctx.organisation.refresh_from_db()
        self.lot = seed_lot(self.ctx, "endive", grams=2_000)
        self.line, self.batch = self.planned(crop="Endive", cultivar="Frill", quantity="14300", due="2027-W37")
        self.cells = self.batch.start // (self.batch.trays or 1)
        self.day = self.ctx.today

    def live(self, trays: int, grams: float) -> None:
        lots = [{"lot_id": self.lot.pk, "quantity": f"{grams} g"}]
        self.client.post(
            f"/api/batches/{self.batch.pk}/sown",
            {"on": str(self.day), "trays": trays, "lots": lots},
            content_type="application/json",
            headers=SURE,
        )
        advance(self.ctx, self.day + timedelta(days=9))
        body = {"trays": [{"sampled": 200, "found": 171}] * 2, "on": str(self.ctx.today), "client_uuid": uid()}
        self.post(f"/batches/{self.batch.pk}/counts", body)
        body = {"lost": 310, "cause": "slugs", "on": str(self.ctx.today), "client_uuid": uid()}
        self.post(f"/batches/{self.batch.pk}/losses", body)
        self.batch.refresh_from_db()

    def correct(self, status: int = 200, **more: object) -> dict[str, object]:
        self.batch.refresh_from_db()
        body = {"version": self.batch.version, "reason": "one nought too many", **more}
        told: dict[str, object] = self.post(f"/batches/{self.batch.pk}/correct-sowing", body, status=status)
        self.batch.refresh_from_db()
        self.lot.refresh_from_db()
        return told

    def as_it_stands(self) -> dict[str, object]:
        """What is reckoned of the batch, by what people see."""
        told = self.get(f"/batches/{self.batch.pk}")
        self.line.refresh_from_db()
        places = [(s["name"], s["start"], s["end"]) for s in told["stages"]]
        work = sorted(
            (t.title, str(t.due_from), t.quantity, t.minutes, t.state)
            for t in Task.objects.filter(subject=self.batch.uuid)
        )
        rungs = [(r["key"], r["value"], r["band"]) for r in told["rungs"]]
        return {
            "expected": round(self.batch.expected),
            "chance": round(self.line.chance or 0, 6),
            "balance": self.lot.balance,
            "places": places,
            "work": work,
            "rungs": rungs,
            "inputs": told["inputs"],
            "space": told["space"],
        }

    def test_corrected_it_is_as_if_it_had_been_typed_right(self) -> None:
        before = rows_now(reckoned=False)
        self.live(830, 199.2 * 5)
        wrong = round(self.batch.expected)
        self.correct(trays=83, lots=[{"lot_id": self.lot.pk, "quantity": "99.6 g"}])
        corrected = self.as_it_stands()
        self.assertLess(corrected["expected"], wrong / 5)
        self.assertEqual(self.lot.balance, Decimal("1900.4"))
        for event in AuditEvent.objects.filter(undone_by=None).order_by("-id"):
            if (
                event.happened_at.date() >= self.day
                and event.subject == self.batch.uuid
                and event.action != "batch.new"
            ):
                event.refresh_from_db()
                if event.undone_by_id is None and event.action != "acts.take_back":
                    back = self.get(f"/acts/{event.pk}/back")
                    known = [one["id"] for one in (*back["events"], *back["rests"])]
                    self.post(f"/acts/{event.pk}/take-back", {"reason": "to live it once more", "known": known})
        advance(self.ctx, self.day)
        left = [one for one in differences(before, rows_now(reckoned=False)) if "accounts_" not in one]
        self.assertEqual(left, [])
        self.batch.refresh_from_db()
        self.live(83, 99.6)
        self.lot.refresh_from_db()
        again = self.as_it_stands()
        for name, value in corrected.items():
            self.assertEqual(value, again[name], name)

    def test_the_day_moves_what_began_with_it_and_nothing_that_came_later(self) -> None:
        self.live(83, 99.6)
        later = self.day + timedelta(days=2)
        self.correct(on=str(later))
        told = self.get(f"/batches/{self.batch.pk}")
        self.assertEqual(told["stages"][0]["start"], str(later))
        self.assertEqual(told["sow_on"], str(later))
        self.assertIn("on ", AuditEvent.objects.get(action="batch.correct_sowing").sentence)
        told = self.correct(status=422, on=str(self.day + timedelta(days=10)))
        self.assertIn("to come", str(told["errors"]))
        advance(self.ctx, self.day + timedelta(days=12))
        told = self.correct(status=422, on=str(self.day + timedelta(days=10)))
        self.assertIn("recorded on", str(told["errors"]))

    def test_another_lot_gives_its_own_germination_and_the_first_has_its_seed_again(self) -> None:
        other = seed_lot(self.ctx, "endive", grams=150, germination=0.71)
        self.live(83, 99.6)
        self.correct(lots=[{"lot_id": other.pk, "quantity": "99.6 g"}])
        other.refresh_from_db()
        self.assertEqual((self.lot.balance, other.balance), (Decimal("2000"), Decimal("50.4")))
        self.assertEqual(self.batch.lot_id, other.pk)
        self.assertTrue(self.batch.stages.filter(source__contains=other.code).exists())

    def test_what_cannot_be_is_refused_and_nothing_moves(self) -> None:
        self.live(83, 99.6)
        before = rows_now()
        for more, said in (
            ({"trays": 1}, "2 trays were counted"),
            ({"reason": " ", "trays": 80}, "Say why"),
            ({}, "Nothing of it"),
            ({"lots": [{"lot_id": self.lot.pk, "quantity": "3 kg"}]}, "holds"),
            ({"version": 1, "trays": 80}, "changed this batch"),
        ):
            status = 409 if "version" in more else 422
            self.assertIn(said, str(self.correct(status=status, **more)), more)
        self.assertEqual(list(differences(before, rows_now())), [])
