"""What work uses: said in a method, measured out for the batch, frozen with it, flagged when it is banned afterwards."""

from datetime import timedelta
from typing import Any

from aldrip.batches.models import Batch
from aldrip.diary.models import Task
from aldrip.methods.models import Input
from tests.server.house import HouseCase

#: Weight of an atom [g/mol]; IUPAC abridged atomic weights, from memory.
ATOM = {
    "H": 1.008,
    "C": 12.011,
    "N": 14.007,
    "O": 15.999,
    "Mg": 24.305,
    "P": 30.974,
    "S": 32.06,
    "K": 39.098,
    "Ca": 40.078,
}
#: What each salt is made of, and what of it the bag counts: an element, or an oxide with its share of the element.
SALTS: dict[str, tuple[dict[str, int], dict[str, tuple[str, dict[str, int]]]]] = {
    "potassium-nitrate": ({"K": 1, "N": 1, "O": 3}, {"N": ("N", {"N": 1}), "K2O": ("K", {"K": 2, "O": 1})}),
    "monopotassium-phosphate": (
        {"K": 1, "H": 2, "P": 1, "O": 4},
        {"P2O5": ("P", {"P": 2, "O": 5}), "K2O": ("K", {"K": 2, "O": 1})},
    ),
    "magnesium-sulphate": ({"Mg": 1, "S": 1, "O": 11, "H": 14}, {"Mg": ("Mg", {"Mg": 1}), "S": ("S", {"S": 1})}),
    "potassium-sulphate": ({"K": 2, "S": 1, "O": 4}, {"K2O": ("K", {"K": 2, "O": 1}), "S": ("S", {"S": 1})}),
    "ammonium-sulphate": ({"N": 2, "H": 8, "S": 1, "O": 4}, {"N": ("N", {"N": 1}), "S": ("S", {"S": 1})}),
    "urea": ({"N": 2, "H": 4, "O": 1, "C": 1}, {"N": ("N", {"N": 1})}),
}


def mass(formula: dict[str, int]) -> float:
    return sum(ATOM[atom] * many for atom, many in formula.items())


class Inputs(HouseCase):
    def form(self, kind: str, typed: dict[str, Any], slug: str = "", status: int = 200) -> Any:
        return self.post(f"/library/{kind}{f'/{slug}/typed' if slug else ''}", {"typed": typed}, status=status)

    def feeds(self, amount: str, per: str, used: str = "calcium-nitrate", status: int = 200) -> Any:
        """Let pak choi plugs be fed on the bench."""
        typed = self.get("/library/method/plug-single-pak-choi")["typed"]
        grow = next(stage for stage in typed["stages"] if stage["key"] == "grow")
        grow["tasks"].append(
            {"kind": "feed", "words": "Feed {crop}", "input": used, "amount": amount, "per": per, "minutes": "20"}
        )
        return self.form("method", typed, "plug-single-pak-choi", status)

    def fed(self, batch: Batch) -> Task:
        return Task.objects.get(subject=batch.uuid, kind="feed")

    def test_salts_that_ship_hold_what_their_formula_says(self) -> None:
        """A bag holds a little less than the pure salt, never more than a tenth of it less."""
        for slug, (salt, counted) in SALTS.items():
            contains = Input.objects.get(slug=slug).contains
            self.assertEqual(set(contains), set(counted), slug)
            for name, (atom, oxide) in counted.items():
                element = salt[atom] * ATOM[atom] / mass(salt)
                pure = element * mass(oxide) / (oxide[atom] * ATOM[atom]) * 100
                self.assertTrue(
                    0.9 * pure <= contains[name] <= pure + 0.5, f"{slug} {name}: {contains[name]} of {pure:.1f}"
                )

    def test_a_method_says_what_it_uses_and_the_day_sheet_how_much(self) -> None:
        self.feeds("4 g", "tray")
        _, batch = self.planned()
        task = self.fed(batch)
        self.assertEqual(task.uses, f"Calcium nitrate, {4 * (batch.trays or 0)} g")
        self.assertIn("Burns with organic matter", task.caution)
        said = self.get(f"/day?day={task.due_from}")["tasks"]
        self.assertIn(f"; with {task.uses}", next(one["words"] for one in said if one["id"] == task.pk))
        self.assertEqual(batch.method_snapshot["inputs"]["calcium-nitrate"]["contains"], {"N": 15.5, "Ca": 19})

    def test_what_is_banned_later_is_flagged_where_it_was_planned_and_taken_by_no_method_more(self) -> None:
        made = self.form("input", {"name": "Old drench", "kind": "protection", "unit": "L", "active": "something"})
        self.feeds("", "", made["slug"])
        _, batch = self.planned()
        task, frozen = self.fed(batch), batch.method_snapshot
        self.assertEqual(task.uses, "Old drench", "no amount is Aldrip's own")
        self.form("input", {**made["typed"], "allowed": "banned"}, made["slug"])
        batch.refresh_from_db()
        self.assertEqual(batch.method_snapshot, frozen)
        said = next(one for one in self.get(f"/day?day={task.due_from}")["tasks"] if one["id"] == task.pk)
        self.assertTrue(said["caution"].startswith("Old drench is banned in this house now: do not use it"))
        refused = self.feeds("", "", made["slug"], status=422)["errors"]
        self.assertIn("banned", {one["code"] for one in refused})
        self.post(f"/tasks/{task.pk}/mark", {"state": "done"})
        self.assertNotIn("banned", self.get(f"/day?day={task.due_from}")["tasks"][0]["caution"], "what is done is done")

    def test_a_substance_that_is_known_as_banned_is_not_free(self) -> None:
        typed = {"name": "Barn smoke", "kind": "protection", "active": "Methyl bromide 98 %"}
        self.assertEqual(self.form("input", typed, status=422)["errors"][0]["code"], "known_as_banned")
        self.assertEqual(self.form("input", {**typed, "allowed": "old"})["typed"]["allowed"], "old")
        self.assertEqual(
            self.form("input", {"name": "Tomato feed", "contains": "N 60, K2O 50"}, status=422)["errors"][0]["code"],
            "too_much",
        )
        self.assertEqual(self.feeds("1 g", "", "nothing-such", status=422)["errors"][0]["code"], "not_there")
        self.assertEqual(self.feeds("20 ml", "tray", status=422)["errors"][0]["code"], "does_not_follow")
        self.assertEqual(self.feeds("4", "tray", status=422)["errors"][0]["code"], "no_unit")


class GiveOrTake(HouseCase):
    def test_a_batch_says_how_sure_its_day_is_until_it_is_over(self) -> None:
        line, batch = self.planned(due="2027-09-08")
        sure = self.get(f"/batches/{batch.pk}")["in_time"]
        self.assertEqual(sure["last_day"], str(line.due.upper - timedelta(days=1)))
        self.assertTrue(0.5 < sure["chance"] < 1 and sure["give_days"] > 1)
        moved = self.post(f"/batches/{batch.pk}/preview", {"ready_on": str(line.due.lower)})
        figure = next(one for one in moved["figures"] if one["name"] == "In time")
        self.assertEqual(figure["before"], sure["chance"])
        self.assertTrue(0.5 < figure["after"] < sure["chance"] and figure["worse"])
        typed = self.get("/library/method/plug-single-pak-choi")["typed"]
        for stage in typed["stages"]:
            stage["give_days"] = "0"
        self.post("/library/method/plug-single-pak-choi/typed", {"typed": typed})
        _, other = self.planned(due="2027-W40")
        self.assertIsNone(self.get(f"/batches/{other.pk}")["in_time"], "a method that says nothing claims nothing")
        typed["stages"][2]["give_days"] = "60"
        refused = self.post("/library/method/plug-single-pak-choi/typed", {"typed": typed}, status=422)
        self.assertEqual(refused["errors"][0]["code"], "too_wide")
