"""The library as forms: what was typed is what stands there, faults name their field, drafts leave nothing, the shipped value stays beside."""

import unittest
from typing import Any

from hypothesis import given
from hypothesis import settings as hypothesis_settings
from hypothesis import strategies as st

from aldrip.batches.models import Batch
from aldrip.methods.forms import FORMS, Asked, Sort, read_form, typed_of
from aldrip.methods.models import Crop, Edition, Line, Method
from aldrip.methods.resolver import KINDS, Library, plain_values
from aldrip.methods.writing import form_of
from aldrip.orders.models import OrderLine
from aldrip_core.refusal import Refused
from tests.server.house import HouseCase, make_house, member, order_row, seed_lot

PURSLANE = {
    "name": "Winter purslane",
    "botanical_name": "Claytonia perfoliata",
    "other_names": "claytonia\nminer lettuce",
    "tgw_g": "1.2 g",
    "germination": "92",
    "minimum_germination": "75 %",
    "depth_mm": "0.25 in",
    "cover": "none",
    "watch_for": "rests above 25 °C",
}


def stage(kind: str, name: str, **more: Any) -> dict[str, Any]:
    return {"kind": kind, "name": name, "unit": "plants", **more}


PRICKED = [
    stage(
        "sow",
        "Sown thick",
        unit="seeds",
        days="0",
        place_kind="shed",
        tasks=[{"kind": "sow", "words": "Sow {crop}", "minutes_per_tray": "3"}],
    ),
    stage("germinate", "Up", unit="plants", days="9", place_kind="germination", density="tray"),
    stage(
        "prick",
        "Pricked out",
        days="24",
        keeps="96",
        keeps_sd="1",
        place_kind="bench",
        density="tray_m2",
        container="tray-104",
    ),
    stage("grade", "Graded", days="0", keeps="95", keeps_sd="1", place_kind="shed"),
    stage("dispatch", "Delivered", days="1", place_kind="store", density="tray_m2"),
]


class Forms(HouseCase):
    def new(self, kind: str, typed: dict[str, Any], status: int = 200, **more: Any) -> Any:
        return self.post(f"/library/{kind}", {"typed": typed, **more}, status=status)

    def change(self, kind: str, slug: str, typed: dict[str, Any], status: int = 200, **more: Any) -> Any:
        return self.post(f"/library/{kind}/{slug}/typed", {"typed": typed, **more}, status=status)

    def codes(self, answer: Any) -> dict[str, str]:
        return {error["field"]: error["code"] for error in answer["errors"]}

    def test_every_row_that_ships_reads_back_as_it_stands(self) -> None:
        """Out as typed text, in again: no value of any shipped row moves."""
        seen = 0
        for kind, fields in FORMS.items():
            for row in Library(self.ctx).rows(KINDS[kind]):
                values, again = plain_values(row), read_form(kind, typed_of(FORMS[kind], plain_values(row)))
                for one in fields:
                    if one.sort is not Sort.TABLE:
                        self.assertEqual(again[one.name], values[one.name], f"{kind} {row.slug} {one.name}")
                seen += 1
        self.assertGreater(seen, 60)

    def test_saving_a_shipped_row_untouched_changes_nothing_of_what_a_plan_reads(self) -> None:
        for row in Library(self.ctx).rows(Method).filter(way="plants"):
            before = plain_values(row)
            self.change("method", row.slug, form_of(self.ctx, "method", row.slug)["typed"])
            after = plain_values(Library(self.ctx).get(Method, row.slug))
            for values in (before, after):
                for one in values["stages"]:
                    one["tasks"] = [{k: v for k, v in task.items() if v not in (None, "")} for task in one["tasks"]]
            for name in before:
                self.assertEqual(after[name], before[name], f"{row.slug} {name}")

    def test_a_new_crop_is_read_as_it_was_typed_and_its_source_kept(self) -> None:
        made = self.new("crop", PURSLANE, source="seed house list 2027")
        self.assertEqual((made["slug"], made["own"], made["ships"]), ("winter-purslane", True, False))
        crop = Crop.objects.get(slug="winter-purslane")
        self.assertEqual((crop.germination, crop.minimum_germination, crop.tgw_g), (0.92, 0.75, 1.2))
        self.assertAlmostEqual(crop.depth_mm or 0, 6.35)
        self.assertEqual(crop.other_names, ["claytonia", "miner lettuce"])
        self.assertEqual(crop.sources["tgw_g"], "seed house list 2027")
        self.assertEqual(self.codes(self.new("crop", {"name": "Winter purslane"}, status=422)), {"name": "twice"})

    def test_every_fault_of_a_form_is_told_at_its_field(self) -> None:
        typed = {
            "name": "",
            "germination": "192",
            "tgw_g": "110 kg",
            "depth_mm": "deep",
            "pollination": "moths",
            "colour": "red",
        }
        self.assertEqual(
            self.codes(self.new("crop", typed, status=422)),
            {
                "name": "missing",
                "germination": "out_of_range",
                "tgw_g": "out_of_range",
                "depth_mm": "not_a_number",
                "pollination": "not_a_choice",
                "colour": "unknown",
            },
        )
        self.assertFalse(Crop.objects.filter(organisation=self.ctx.organisation).exists())
        self.assertEqual(
            self.codes(self.new("mix", {"name": "Peat", "parts": "peat 3, sand"}, status=422)), {"parts": "no_part"}
        )

    def test_a_number_without_end_is_refused_wherever_it_is_typed(self) -> None:
        endless = "9" * 400
        self.assertEqual(
            self.codes(self.new("mix", {"name": "Peat", "parts": f"peat {endless}"}, status=422)), {"parts": "no_part"}
        )
        self.assertEqual(
            self.codes(self.new("crop", {"name": "Cress", "tgw_g": endless}, status=422)), {"tgw_g": "too_large"}
        )
        task = {"title": "Mend", "due": "2027-07-08", "minutes": endless}
        self.assertEqual(self.codes(self.post("/tasks", task, status=422)), {"minutes": "too_large"})

    def test_a_changed_shipped_value_shows_both_and_is_taken_back(self) -> None:
        was = self.get("/library/crop/pak-choi")
        typed = {**was["typed"], "germination": "81"}
        now = self.change("crop", "pak-choi", typed, source="own tests", reason="three bad years")
        self.assertEqual(
            (now["own"], now["ships"], now["shipped"]), (True, True, {"germination": was["typed"]["germination"]})
        )
        self.assertEqual(now["sources"]["germination"], "own tests")
        self.assertEqual(now["sources"]["tgw_g"], was["sources"]["tgw_g"])
        told = self.get("/library/crop/pak-choi/editions")
        shipped = next(one for one in told if not one["own"])
        self.post(f"/editions/{shipped['id']}/take-back", {"reason": "one good year"})
        self.assertEqual(self.get("/library/crop/pak-choi")["shipped"], {})

    def test_a_method_with_pricking_out_is_tried_written_planned_and_stays_with_its_batch(self) -> None:
        self.new("crop", PURSLANE)
        typed = {
            "name": "Winter purslane, sown thick and pricked out",
            "crop": "winter-purslane",
            "form": "plug",
            "start_unit": "seeds",
            "seeds_per_cell": "1",
            "container": "tray-240",
            "standard": "plug",
            "stages": PRICKED,
        }
        tried = self.post("/methods/try", {"typed": typed, "quantity": "3,000", "begin": "2027-07-06"})
        rungs = {rung["key"]: rung for rung in tried["rungs"]}
        self.assertEqual(list(rungs), ["sow", "germinate", "prick", "grade", "dispatch"])
        self.assertGreater(tried["start"], 3000 / (0.92 * 0.95) / 0.96 / 0.95)  # of seed the crop says what comes up
        self.assertGreater(rungs["prick"]["amount"], 0)
        self.assertFalse(Method.objects.filter(crop__slug="winter-purslane").exists(), "a draft leaves nothing")
        self.assertFalse(Edition.objects.filter(slug__startswith="winter-purslane-").exists())
        made = self.new("method", typed)
        seed_lot(self.ctx, "winter-purslane")
        self.post("/orders", {"rows": [order_row(crop="Winter purslane", quantity="3000", due="2027-W38")]})
        self.post("/batches/plan-lines", {})
        batch = Batch.objects.get(crop__slug="winter-purslane")
        frozen = batch.method_snapshot
        slower = [{**one, "days": "40"} if one["key"] == "prick" else one for one in made["typed"]["stages"]]
        self.change("method", made["slug"], {**made["typed"], "stages": slower})
        batch.refresh_from_db()
        self.assertEqual(batch.method_snapshot, frozen)
        method = Library(self.ctx).get(Method, made["slug"])
        self.assertEqual(method.stages.get(key="prick").days, 40)
        self.assertEqual(method.edition, 2)

    def test_the_editor_refuses_what_cannot_be_at_the_field(self) -> None:
        self.new("crop", PURSLANE)
        typed: dict[str, Any] = {"name": "Odd", "crop": "winter-purslane", "form": "plug", "stages": PRICKED}
        cases: list[tuple[int, dict[str, Any], str]] = [
            (2, {"keeps": "120"}, "stages.2.keeps"),
            (1, {"days": ""}, "stages.1.days"),
            (1, {"after": "grade"}, "stages.1.after"),
            (1, {"after": "germinate"}, "stages.1.after"),
            (2, {"container": "tray-nowhere"}, "stages.2.container"),
            (3, {"unit": "barrels"}, "stages.3.unit"),
            (2, {"share": "0"}, "stages.2.share"),
            (2, {"density": "unit_m2"}, "stages.2.unit_m2"),
            (2, {"keeps": "50", "keeps_sd": "60"}, "stages.2.keeps_sd"),
            (2, {"key": "sow"}, "stages.2.key"),
        ]
        for at, wrong, field in cases:
            stages = [
                {**one, "key": one["kind"], **(wrong if index == at else {})} for index, one in enumerate(PRICKED)
            ]
            for path in ("/methods/try", "/library/method"):
                answer = self.post(path, {"typed": {**typed, "stages": stages}}, status=422)
                self.assertIn(field, self.codes(answer), f"{wrong} {path} {answer}")
        self.assertFalse(Method.objects.filter(organisation=self.ctx.organisation).exists())

    def test_an_own_usual_way_is_taken_before_the_shipped_one_and_the_newest_before_an_older(self) -> None:
        seed_lot(self.ctx)
        typed = self.get("/library/method/plug-single-pak-choi")["typed"]
        for number, (name, usual) in enumerate((("First way", True), ("Second way", True), ("Another way", False))):
            self.new("method", {**typed, "name": name, "default": usual}, like="plug-single-pak-choi")
            self.post("/orders", {"rows": [order_row(order=f"9{number}", due="2027-W40")]})
            self.post("/batches/plan-lines", {})
        planned = Batch.objects.order_by("id").values_list("method__name", flat=True)
        self.assertEqual(list(planned), ["First way", "Second way", "Second way"])

    def test_what_a_house_has_of_a_crop_goes_on_when_it_writes_its_own_row(self) -> None:
        """Lots, orders, batches, cultivars and shipped methods: one crop stays one crop."""
        lot = seed_lot(self.ctx)
        _, batch = self.planned(order="1", due="2027-W36")
        line = self.new("line", {"name": "Own lantern", "crop": "pak-choi"})
        form = self.get("/library/crop/pak-choi")
        self.change("crop", "pak-choi", {**form["typed"], "germination": "60", "germination_sd": "1"})
        own = Crop.objects.get(slug="pak-choi", organisation=self.ctx.organisation)
        for record in (lot, batch, Line.objects.get(slug=line["slug"]), OrderLine.objects.get(order__number="1")):
            record.refresh_from_db()
            self.assertEqual(record.crop_id, own.pk, record)
        library = self.get("/library")
        self.assertTrue([one for one in library["methods"] if one["crop_id"] == own.pk and not one["own"]])
        self.assertTrue([one for one in library["lines"] if one["crop_id"] == own.pk and not one["own"]])
        self.post(f"/batches/{batch.pk}/keep", {"version": batch.version, "change": {"lot_id": lot.pk}})
        self.post("/orders", {"rows": [order_row(order="2", due="2027-W38")]})
        self.post("/batches/plan-lines", {})
        later = Batch.objects.latest("id")
        self.assertEqual((later.crop_id, later.lot_id), (own.pk, lot.pk))
        # Another house knows nothing of it.
        other = make_house("Elsewhere", username="elsewhere")
        self.assertEqual(seed_lot(other).crop.organisation_id, None)

    def test_an_own_standard_is_what_new_orders_are_graded_by(self) -> None:
        typed = self.get("/library/standard/plug")["typed"]
        self.change(
            "standard", "plug", {**typed, "limits": [{"words": "height", "low": "5", "high": "9", "unit": "cm"}]}
        )
        self.post("/orders", {"rows": [order_row(order="1", due="2027-W36")]})
        standard = OrderLine.objects.get().standard
        assert standard is not None
        self.assertEqual(standard.organisation, self.ctx.organisation)
        self.assertEqual([(one["words"], one["high"]) for one in standard.limits], [("height", 9)])

    def test_an_own_container_stands_in_shipped_methods_from_now_on_and_not_in_what_was_planned(self) -> None:
        seed_lot(self.ctx)
        _, before = self.planned(order="1", due="2027-W36")
        typed = self.get("/library/container/tray-240")["typed"]
        self.change("container", "tray-240", {**typed, "cells": "200", "cell_ml": "16"})
        _, after = self.planned(order="2", due="2027-W36")
        before.refresh_from_db()
        cells = [one.method_snapshot["containers"]["tray-240"]["cells"] for one in (before, after)]
        self.assertEqual(cells, [240, 200])
        self.assertEqual((before.start % 240, after.start % 200), (0, 0))
        self.assertEqual(self.get(f"/batches/{after.pk}")["container"], "Tray of 240")

    def test_a_stage_put_in_between_joins_the_chain(self) -> None:
        was = self.get("/library/method/plug-single-pak-choi")["typed"]
        stages = [
            *was["stages"][:3],
            stage("space", "Spaced", days="5", place_kind="bench", density="tray_m2"),
            *was["stages"][3:],
        ]
        self.change("method", "plug-single-pak-choi", {**was, "stages": stages})
        made = list(Library(self.ctx).get(Method, "plug-single-pak-choi").stages.values_list("key", "after"))
        self.assertEqual(made, [(key, before) for (key, _), (before, _) in zip(made, [("", ""), *made], strict=False)])
        self.assertIn(("space", "grow"), made)

    def test_another_house_and_other_roles_do_not_write_here(self) -> None:
        self.new("crop", PURSLANE)
        for role in ("supervisor", "viewer"):
            self.client.force_login(member(self.ctx, f"the-{role}", role))
            self.new("crop", {"name": "Leek"}, status=403)
            self.assertEqual(self.get("/library/crop/winter-purslane")["typed"]["tgw_g"], "1.2")
        other = make_house("Elsewhere", username="elsewhere")
        assert other.user is not None
        self.client.force_login(other.user)
        self.get("/library/crop/winter-purslane", status=404)
        self.change("crop", "winter-purslane", {"name": "Winter purslane"}, status=404)
        self.assertEqual(self.new("crop", {"name": "Winter purslane"})["slug"], "winter-purslane")

    def test_the_second_of_two_changes_is_told_and_both_stand(self) -> None:
        form = self.get("/library/crop/endive")
        first = self.change("crop", "endive", {**form["typed"], "germination": "80"}, seen=form["seen"])
        told = self.change("crop", "endive", {**form["typed"], "germination": "70"}, status=409, seen=form["seen"])
        self.assertEqual(told["code"], "changed_meanwhile")
        self.assertEqual(self.get("/library/crop/endive")["typed"]["germination"], "80")
        self.change("crop", "endive", {**form["typed"], "germination": "70"}, seen=first["seen"])

    def test_two_write_the_same_new_name_and_one_is_told(self) -> None:
        self.new(
            "container",
            {"name": "Crate", "cells": "1", "cell_ml": "30000", "length_cm": "60", "width_cm": "40", "depth_cm": "20"},
        )
        again = {"name": "crate", "cells": "1", "cell_ml": "9", "length_cm": "60", "width_cm": "40", "depth_cm": "20"}
        self.assertEqual(self.codes(self.new("container", again, status=422)), {"name": "twice"})

    def test_retired_rows_are_listed_and_come_back_when_they_are_written(self) -> None:
        self.post("/library/mix/perlite-peat/retire", {"reason": "no peat any more"})
        row = next(one for one in self.get("/library/rows") if (one["kind"], one["slug"]) == ("mix", "perlite-peat"))
        self.assertTrue(row["retired"])
        typed = self.get("/library/mix/perlite-peat")["typed"]
        method = self.get("/library/method/tip-cutting-lavender")["typed"]
        copied = {**method, "name": "Lavender, our way"}
        refused = self.new("method", copied, like="tip-cutting-lavender", status=422)["errors"]
        self.assertEqual([one["field"] for one in refused], ["mix"])
        self.assertIn("is retired. Choose another", refused[0]["message"])
        self.assertFalse(self.change("mix", "perlite-peat", {**typed, "parts": "perlite 60, bark 40"})["retired"])


class AsYaml(HouseCase):
    def take(self, text: str, commit: bool = True, status: int = 200) -> Any:
        return self.post("/library/yaml/read", {"text": text, "commit": commit}, status=status)

    def out(self, **which: str) -> str:
        return str(self.client.get("/api/library/yaml", which).content.decode())

    def test_out_and_in_is_identical_for_every_shipped_row(self) -> None:
        """Into the same house it changes nothing."""
        rows = self.get("/library/rows")
        told = self.take("\n".join(self.out(kind=row["kind"], slug=row["slug"]) for row in rows))
        self.assertEqual(len(told["rows"]), len(rows))
        for row, one in zip(rows, told["rows"], strict=True):
            self.assertEqual((one["state"], one["changed"], one["faults"]), ("same", [], []), row["slug"])

    def test_own_rows_out_of_one_house_into_another_and_out_again(self) -> None:
        self.post("/library/crop", {"typed": PURSLANE | {"name": "Cress"}, "source": "own list"})
        typed = {
            "name": "Cress, pricked out",
            "crop": "cress",
            "form": "plug",
            "start_unit": "seeds",
            "container": "tray-240",
            "stages": PRICKED,
        }
        self.post("/library/method", {"typed": typed})
        copied = self.get("/library/method/drilled-seed-white-lupin")["typed"] | {"name": "Cress seed", "crop": "cress"}
        self.post("/library/method", {"typed": copied, "like": "drilled-seed-white-lupin"})
        self.post("/library/mix", {"typed": {"name": "Own mix", "parts": "peat 3, fine sand 1.5"}})
        text = self.out()
        other = make_house("Elsewhere", username="elsewhere")
        assert other.user is not None
        self.client.force_login(other.user)
        self.assertEqual(self.out().strip(), "[]")
        told = self.take(text, commit=False)
        self.assertFalse(told["saved"])
        self.assertEqual(self.out().strip(), "[]")
        told = self.take(text)
        self.assertEqual({one["state"] for one in told["rows"]}, {"new"}, told)
        self.assertEqual(self.out(), text)
        self.assertEqual(Library(other).get(Method, "cress-seed").way, "drilled")

    def test_one_fault_keeps_all_of_it_out_and_is_told_at_its_row(self) -> None:
        text = "- {row: mix, name: Fine, parts: {peat: 2}}\n- {row: crop, name: Cress, germination: 190}\n- {row: tractor}\n"
        told = self.take(text)
        self.assertFalse(told["saved"])
        self.assertEqual(
            [[fault["field"] for fault in one["faults"]] for one in told["rows"]], [[], ["germination"], ["row"]]
        )
        self.assertEqual(self.out().strip(), "[]")

    def test_what_is_no_list_of_rows_is_refused_in_words(self) -> None:
        bomb = "a: &a [x, x]\nb: &b [*a, *a]\nc: [*b, *b]"
        for text in ("", "rubbish", "- 5", "{", "a: [", bomb, "!!python/object:os.system {}", "- [" * 3000):
            told = self.take(text, status=422)
            self.assertEqual([error["field"] for error in told["errors"]], ["text"], text[:40])

    def test_rows_may_name_each_other_in_one_text(self) -> None:
        text = "- {row: crop, slug: cress, name: Cress, tgw_g: 2.3, germination: 90}\n- {row: line, name: Curled, crop: cress}\n"
        self.assertTrue(self.take(text)["saved"])
        self.assertEqual(Crop.objects.get(slug="cress").lines.get().name, "Curled")


class SchemesAndCustomers(HouseCase):
    def typed(self, kind: str, slug: str) -> dict[str, Any]:
        typed: dict[str, Any] = self.get(f"/library/{kind}/{slug}")["typed"]
        return typed

    def test_a_scheme_of_classes_is_made_after_one_that_ships_and_may_have_fewer(self) -> None:
        typed = self.typed("class_scheme", "four-step")
        typed["name"], typed["classes"] = "Three steps", [typed["classes"][0], typed["classes"][1], typed["classes"][3]]
        typed["classes"][2]["from"] = "foundation"
        made = self.post("/library/class_scheme", {"typed": typed, "like": "four-step"})
        self.assertEqual(self.typed("class_scheme", made["slug"])["classes"][2]["from"], "foundation")
        typed["classes"][2]["from"] = "registered"
        told = self.post(f"/library/class_scheme/{made['slug']}/typed", {"typed": typed}, status=422)
        self.assertEqual(told["errors"][0]["field"], "classes.2.from")
        self.assertIn("nucleus, foundation", told["errors"][0]["message"])

    def test_a_class_is_renamed_and_not_taken_out(self) -> None:
        typed = self.typed("class_scheme", "oecd-like")
        typed["classes"][1]["name"] = "base seed"
        self.post("/library/class_scheme/oecd-like/typed", {"typed": typed})
        self.assertEqual(self.typed("class_scheme", "oecd-like")["classes"][1]["slug"], "basic")
        del typed["classes"][1]
        told = self.post("/library/class_scheme/oecd-like/typed", {"typed": typed}, status=422)
        self.assertEqual({error["code"] for error in told["errors"]}, {"in_use", "not_above"})
        twice = {"name": "Twice", "classes": [{"name": "One"}, {"name": "one"}], "note": ""}
        told = self.post("/library/class_scheme", {"typed": twice}, status=422)
        self.assertEqual(told["errors"][0]["code"], "twice")

    def test_what_one_customer_asks_is_graded_for_that_customer_alone(self) -> None:
        typed = self.typed("standard", "plug")
        typed |= {"name": "Plugs for Harrow End", "customer": "Harrow End"}
        typed["limits"][0] |= {"low": "9"}
        made = self.post("/library/standard", {"typed": typed, "like": "plug"})
        lines = self.post("/orders", {"rows": [order_row(order="1", customer="harrow end"), order_row(order="2")]})[
            "lines"
        ]
        theirs, others = (OrderLine.objects.get(pk=pk).standard for pk in lines)
        assert theirs is not None and others is not None
        self.assertEqual((theirs.slug, others.slug), (made["slug"], "plug"))


texts = st.text(st.characters(codec="ascii", exclude_categories=["Cc"]), max_size=12).map(str.strip)


def values_for(one: Asked) -> st.SearchStrategy[Any]:
    """Any value that a field may keep."""
    if one.sort in (Sort.NUMBER, Sort.SHARE):
        return st.floats(one.low or 0, one.high or 1, allow_nan=False).map(lambda value: float(f"{value:.6g}"))
    return {
        Sort.TEXT: texts,
        Sort.ROW: st.just("pak-choi"),
        Sort.CHECK: st.booleans(),
        Sort.LINES: st.lists(texts.filter(bool), max_size=3),
        Sort.WHOLE: st.integers(int(one.low or 0), int(one.high or 9)),
        Sort.CHOICE: st.sampled_from([key for key, _ in one.choices] or [""]),
        Sort.SEVERAL: st.lists(st.sampled_from([key for key, _ in one.choices] or [""]), max_size=3, unique=True),
        Sort.PARTS: st.dictionaries(st.sampled_from(["peat", "fine sand"]), st.floats(1, 99).map(round), max_size=2),
        Sort.NUMBERS: st.lists(st.integers(1, 90).map(float), max_size=12),
        Sort.NAMES: st.lists(texts.map(lambda text: text.replace(",", " ").strip()).filter(bool), max_size=3),
        Sort.TABLE: st.just([]),
    }[one.sort]


class AsTyped(unittest.TestCase):
    @hypothesis_settings(max_examples=60, deadline=None)
    @given(st.data())
    def test_whatever_a_row_says_is_read_back_from_its_form(self, data: st.DataObject) -> None:
        kind = data.draw(st.sampled_from(sorted(FORMS)))
        values = {one.name: data.draw(values_for(one), label=one.name) for one in FORMS[kind]}
        try:
            again = read_form(kind, typed_of(FORMS[kind], values))
        except Refused as refused:
            # Only what is needed and was left empty may be refused.
            self.assertEqual({error.code for error in refused.errors}, {"missing"})
            return
        for one in FORMS[kind]:
            got, was = again[one.name], values[one.name]
            if isinstance(was, float):
                self.assertAlmostEqual(got, was, delta=abs(was) * 1e-6)
            else:
                self.assertEqual(got, was if was != "" or one.sort is not Sort.ROW else None)
