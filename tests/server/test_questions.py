"""Several lines asked about at once, kept as a question, held until a day, taken as an order."""

from datetime import date, timedelta

from django.db import connection
from django.test.utils import CaptureQueriesContext

from aldrip.batches.models import Allocation, Batch, Held, Question
from aldrip.methods.models import Container
from aldrip.orders.models import OrderLine
from tests.server.house import HouseCase, advance, seed_lot, take_order

PAK_CHOI = {"crop": "Pak choi", "form": "plug", "quantity": "2,000", "due": "week 30"}
ENDIVE = {"crop": "Endive", "form": "plug", "quantity": "9000", "due": "week 36"}


class Questions(HouseCase):
    def stand(self) -> Batch:
        """A batch that gives more than was ordered; 6 July, three weeks before it is delivered."""
        seed_lot(self.ctx)
        advance(self.ctx, date(2027, 6, 22))
        _, batch = self.planned(quantity="6000", due="2027-W31")
        sow = batch.stages.get(key="sow").planned.lower
        advance(self.ctx, sow)
        self.post(f"/batches/{batch.pk}/sown", {"on": str(sow), "trays": 60})
        advance(self.ctx, date(2027, 7, 6))
        batch.refresh_from_db()
        return batch

    def ask(self, *rows: dict[str, str], status: int = 200, **more: object) -> dict:
        return self.post("/orders/questions/ask", {"rows": list(rows), **more}, status=status)

    def keep(self, *rows: dict[str, str], status: int = 200, **more: object) -> dict:
        return self.post("/orders/questions", {"rows": list(rows), "customer": "Elm Farm", **more}, status=status)

    def kept(self) -> list[dict]:
        return self.get("/orders/questions")

    def free(self) -> float:
        """What of pak choi nobody has or holds, as the answer to a question far too large tells it."""
        answer = self.ask({**PAK_CHOI, "quantity": "9000"})["answers"][0]
        return float(answer["standing"].removesuffix(" plants").replace(",", "") or 0)

    def test_several_are_answered_together_and_nothing_is_saved(self) -> None:
        seed_lot(self.ctx, "endive")
        seed_lot(self.ctx)
        both = self.ask({**PAK_CHOI, "due": "week 36"}, ENDIVE)
        self.assertEqual((both["can"], both["sentence"]), (True, "Yes, both together."))
        one = self.ask({**PAK_CHOI, "due": "week 36"}, {**ENDIVE, "due": "week 27"})
        self.assertFalse(one["can"])
        self.assertEqual(one["sentence"], "1 of the 2 as asked; not endive.")
        self.assertEqual([answer["can"] for answer in one["answers"]], [True, False])
        self.assertEqual((Question.objects.count(), OrderLine.objects.count(), Batch.objects.count()), (0, 0, 0))

    def test_the_second_sees_what_the_first_would_take(self) -> None:
        self.stand()
        free = self.free()
        half = {**PAK_CHOI, "quantity": str(int(free * 0.7)), "due": "week 30"}
        alone, again = self.ask(half)["answers"][0], self.ask(half, {**half, "due": "week 31"})
        self.assertIn("of what stands", alone["sentence"])
        self.assertNotEqual(again["answers"][1]["sentence"], alone["sentence"])

    def test_the_second_sees_the_seed_that_the_first_would_take(self) -> None:
        row = {**PAK_CHOI, "quantity": "9000", "due": "week 40"}
        grams = self.ask(row)["answers"][0]["seed_g"]
        seed_lot(self.ctx, grams=1.5 * grams)
        both = self.ask(row, {**row, "due": "week 41"})
        self.assertEqual(both["sentence"], "Yes, both together, if the seed is there.")
        first, second = both["answers"]
        self.assertEqual([x["kind"] for x in first["limits"]], [])
        self.assertEqual([x["kind"] for x in second["limits"]], ["seed"])

    def test_part_of_what_stands_and_the_rest_sown(self) -> None:
        self.stand()
        free = self.free()
        more = {**PAK_CHOI, "quantity": str(int(free) + 1500)}
        there = self.ask({**more, "due": "week 31"})["answers"][0]
        self.assertRegex(there["sentence"], rf"^Yes: {int(free):,} of what stands or is planned, and sow \d+ trays on ")
        self.assertLess(there["start"], 2500)
        near = self.ask({**more, "due": "week 29"})["answers"][0]
        self.assertFalse(near["can"])

    def test_held_plants_are_nobody_elses_until_the_day_and_free_after_it(self) -> None:
        self.stand()
        before = self.free()
        told = self.keep(PAK_CHOI, until="2027-07-09")
        self.assertIn("2,000 plants", told["message"])
        self.assertEqual(self.free(), before - 2000)
        (kept,) = self.kept()
        self.assertFalse(kept["ended"])
        # Its own hold is no hindrance to it.
        own = self.ask({**PAK_CHOI, "quantity": str(int(before))}, question=kept["id"])
        self.assertTrue(own["can"], own)
        # An order by telephone meanwhile gets none of it.
        line = take_order(self.ctx, quantity=str(int(before)), due="2027-W30")
        self.post("/batches/plan-lines", {"lines": [line.pk]})
        self.assertLessEqual(sum(a.quantity for a in line.allocations.filter(batch__state="sown")), before - 2000)
        self.post(f"/order-lines/{line.pk}/cancel", {"reason": "a mistake"})
        advance(self.ctx, date(2027, 7, 7))
        (waits,) = [one for one in self.get("/season-line")["decisions"] if one["code"] == "question"]
        self.assertEqual((waits["by"], waits["link"]), ("2027-07-09", f"/orders?question={kept['id']}"))
        advance(self.ctx, date(2027, 7, 10))
        self.assertEqual(self.free(), before)
        (waits,) = [one for one in self.get("/season-line")["decisions"] if one["code"] == "question"]
        self.assertIn("free again", waits["sentence"])
        self.assertTrue(self.kept()[0]["ended"])

    def test_taken_as_an_order_its_lines_have_what_was_held(self) -> None:
        batch = self.stand()
        self.keep(PAK_CHOI, until="2027-07-09")
        (kept,) = self.kept()
        made = self.post(f"/orders/questions/{kept['id']}/take", {"version": kept["version"], "order": "T1"})["lines"]
        (line,) = OrderLine.objects.filter(pk__in=made)
        self.assertEqual((line.order.number, line.order.customer), ("T1", "Elm Farm"))
        self.assertEqual(Allocation.objects.get(order_line=line).batch, batch)
        self.assertEqual(self.kept(), [])
        twice = self.post(f"/orders/questions/{kept['id']}/take", {"version": kept["version"]}, status=422)
        self.assertIn("ordered already", twice["errors"][0]["message"])
        self.assertEqual(OrderLine.objects.filter(order__customer="Elm Farm").count(), 1)

    def test_a_week_stays_the_week_that_was_meant_and_what_is_over_is_not_ordered(self) -> None:
        self.stand()
        self.keep(PAK_CHOI)
        (kept,) = self.kept()
        self.assertEqual((kept["rows"][0]["due"], kept["rows"][0]["until"]), ("2027-07-26", "2027-08-01"))
        self.assertEqual(kept["words"], "2,000 pak choi for week 30")
        advance(self.ctx, date(2027, 8, 3))
        late = {"version": kept["version"]}
        error = self.post(f"/orders/questions/{kept['id']}/take", late, status=422)["errors"][0]
        self.assertEqual((error["field"], error["code"]), ("rows.0.due", "past"))
        rows = [{**kept["rows"][0], "due": "week 36", "until": ""}]
        made = self.post(f"/orders/questions/{kept['id']}/take", {**late, "rows": rows})["lines"]
        self.assertEqual(OrderLine.objects.get(pk__in=made).due.lower, date(2027, 9, 6))

    def test_let_go_it_is_free_and_changed_it_holds_what_it_says_now(self) -> None:
        self.stand()
        before = self.free()
        self.keep(PAK_CHOI, until="2027-07-09")
        (kept,) = self.kept()
        more = {"question": kept["id"], "version": kept["version"], "until": "2027-07-08"}
        self.keep({**PAK_CHOI, "quantity": "500"}, **more)
        self.assertEqual(self.free(), before - 500)
        stale = self.keep({**PAK_CHOI, "quantity": "700"}, status=409, **more)
        self.assertIn("Somebody else changed", str(stale))
        (kept,) = self.kept()
        self.post(f"/orders/questions/{kept['id']}/drop", {"version": kept["version"]})
        self.assertEqual((self.free(), self.kept()), (before, []))

    def test_what_died_meanwhile_is_told(self) -> None:
        batch = self.stand()
        self.keep({**PAK_CHOI, "quantity": str(int(self.free()))}, until="2027-07-20")
        self.assertEqual(self.kept()[0]["missing"], "")
        Batch.objects.filter(pk=batch.pk).update(low=6000 + 900)
        self.assertIn("only 900 plants are there still", self.kept()[0]["missing"])

    def test_refusals_say_what_to_do(self) -> None:
        self.stand()
        seed_lot(self.ctx, "endive")
        for more, field, words in (
            ({"until": "2027-07-01"}, "until", "is over"),
            ({"until": "2028-07-01"}, "until", "at the most"),
            ({"customer": " "}, "customer", "Who asks?"),
        ):
            error = self.keep(PAK_CHOI, status=422, **more)["errors"][0]
            self.assertEqual(error["field"], field)
            self.assertIn(words, error["message"])
        nothing = self.keep(ENDIVE, status=422, until="2027-07-09")["errors"][0]
        self.assertIn("nothing can be held", nothing["message"])
        self.assertEqual(self.ask(status=422)["errors"][0]["field"], "rows")
        fields = [e["field"] for e in self.ask(PAK_CHOI, {"crop": "Nonsuch", "due": "?"}, status=422)["errors"]]
        self.assertTrue(fields and all(field.startswith("rows.1.") for field in fields), fields)
        past = self.ask({**PAK_CHOI, "due": "2027-07-01"}, status=422)["errors"][0]
        self.assertEqual((past["field"], past["code"]), ("rows.0.due", "past"))
        self.assertEqual((Question.objects.count(), Held.objects.count()), (0, 0))

    def test_another_form_that_stands_is_offered(self) -> None:
        self.stand()
        batch = Batch.objects.get()
        other = next(one for one in Container.objects.filter(kind=batch.container.kind) if one != batch.container)
        answer = self.ask({**PAK_CHOI, "container": other.name, "quantity": "3000"})
        told = [r["sentence"] for r in answer["answers"][0]["remedies"] if r["kind"] == "instead"]
        self.assertTrue(told, answer["answers"][0]["remedies"])

    def test_as_many_queries_for_many_questions(self) -> None:
        self.stand()

        def queries() -> int:
            with CaptureQueriesContext(
                connection,
            ) as seen:
                self.kept()
            return len(seen)

        self.keep(PAK_CHOI, until="2027-07-09")
        few = queries()
        for n in range(4):
            self.keep(
                {**PAK_CHOI, "quantity": str(100 + n)}, customer=f"Farm {n}", until=str(date(2027, 7, 9) + timedelta(n))
            )
        self.assertEqual(queries(), few)
        self.assertEqual(self.kept()[0]["customer"], "Elm Farm")
