"""Bad input, room by room: each fault is named by its field and code, says what to do, and leaves nothing behind."""

import json
from datetime import date
from typing import Any
from unittest.mock import patch

from django.db import OperationalError, models
from django.test import Client

from aldrip.accounts.models import AuditEvent, ClosedDay, Member, Organisation
from aldrip.base.requests import Lines
from aldrip.deliveries.models import Delivery
from aldrip.diary.models import Count, Task
from aldrip.lots.models import Intake, Lot, Movement, Seal, TestResult, Verdict
from aldrip.methods.models import Container, Crop, IsolationRule, Line, Standard
from aldrip.places.models import LandUse, Place, Site
from aldrip.places.services import PlaceSpec, add_place
from aldrip.seedcrops.models import BlockSowing, FlowerObservation, MaleRemoval, RemedyUse, SeedBlock
from tests.server.house import COAST, HouseCase, make_house, member, seed_lot, uid
from tests.server.seed_house import FIELD_STANDARD, SeedCase, parent_seed, sunflower

Fault = tuple[dict[str, Any], str, str]


class RefusalCase(HouseCase):
    def refused(
        self,
        path: str,
        good: dict[str, Any],
        faults: list[Fault],
        *,
        method: str = "post",
        keeps: list[type[models.Model]],
    ) -> None:
        """Each fault on top of a good body is refused as said; rows of `keeps` and the audit stay as they are."""
        for more, field, code in faults:
            before = [model._default_manager.count() for model in (*keeps, AuditEvent)]
            body = {**good, **more}
            if "client_uuid" in body:
                body["client_uuid"] = uid()
            told = self.call(method, path, body, status=422)["errors"]
            self.assertIn((field, code), [(one["field"], one["code"]) for one in told], (more, told))
            for one in told:
                self.assertRegex(one["message"], r"^[“0-9A-Z−-].{12,}[.?]$", more)
            after = [model._default_manager.count() for model in (*keeps, AuditEvent)]
            self.assertEqual(before, after, more)


class InMethods(RefusalCase):
    def test_lines_and_hybrids(self) -> None:
        crop = sunflower()
        other = Crop.objects.get(slug="pak-choi")
        strange = Line.objects.create(organisation=self.ctx.organisation, crop=other, name="Stranger", slug="stranger")
        one = Line.objects.create(organisation=self.ctx.organisation, crop=crop, name="One", slug="one")
        self.refused(
            "/lines",
            {"crop_id": crop.pk, "name": "Two"},
            [
                ({"name": "  "}, "name", "missing"),
                ({"name": "oNE"}, "name", "taken"),
                ({"role": "X"}, "role", "not_a_choice"),
                ({"tgw_g": 0}, "tgw_g", "out_of_range"),
                ({"tgw_g": 3000}, "tgw_g", "out_of_range"),
                ({"to_flower_c_d": -1}, "to_flower_c_d", "out_of_range"),
                ({"flower_spread_days": 31}, "flower_spread_days", "out_of_range"),
                ({"flower_lasts_days": 500}, "flower_lasts_days", "out_of_range"),
                ({"female_id": one.pk}, "male_id", "missing"),
                ({"female_id": one.pk, "male_id": one.pk}, "male_id", "same_line"),
                ({"female_id": one.pk, "male_id": strange.pk}, "female_id", "other_crop"),
            ],
            keeps=[Line],
        )
        self.post("/lines", {"crop_id": crop.pk, "name": "Two"})

    def test_field_standards(self) -> None:
        good = {"crop_id": sunflower().pk, **FIELD_STANDARD}
        limit = FIELD_STANDARD["limits"][0]
        self.refused(
            "/field-standards",
            good,
            [
                ({"seed_class": "royal"}, "seed_class", "unknown_class"),
                ({"source": " "}, "source", "missing"),
                ({"name": ""}, "name", "missing"),
                ({"first_areas": 0}, "first_areas", "out_of_range"),
                ({"first_ha": 0}, "first_ha", "out_of_range"),
                ({"per_ha": 2000}, "per_ha", "out_of_range"),
                ({"plants_per_area": 20_000}, "plants_per_area", "out_of_range"),
                ({"limits": []}, "limits", "missing"),
                ({"limits": [limit, limit]}, "limits", "twice"),
                ({"limits": [{**limit, "limit": 0.6}]}, "limits.0.limit", "out_of_range"),
                ({"limits": [{**limit, "words": " "}]}, "limits.0.limit", "out_of_range"),
            ],
            keeps=[Standard],
        )

    def test_seed_standards_may_be_stricter_than_the_law_and_never_looser(self) -> None:
        shipped = next(
            s
            for s in Standard.objects.filter(organisation=None, kind="seed", crop__slug="sunflower")
            if any(one.get("statutory") for one in s.limits)
        )
        law = next(one for one in shipped.limits if one.get("statutory") and one.get("low"))
        good = {
            "crop_id": sunflower().pk,
            "seed_class": shipped.seed_class,
            "name": "Own",
            "source": "contract",
            "limits": [{"attribute": law["attribute"], "low": law["low"] + 1}],
        }
        name = law["attribute"]
        self.refused(
            "/seed-standards",
            good,
            [
                ({"limits": [{"attribute": name, "low": law["low"] - 1}]}, "limits.0.low", "statutory_limit"),
                ({"limits": [{"attribute": name, "high": 100}]}, "limits.0.low", "statutory_limit"),
                ({"limits": [{"attribute": name}]}, "limits.0.low", "missing"),
                ({"limits": [{"attribute": name, "low": 99}, {"attribute": name, "low": 98}]}, "limits", "twice"),
                ({"source": ""}, "source", "missing"),
                ({"name": " "}, "name", "missing"),
            ],
            keeps=[Standard],
        )
        made = self.post("/seed-standards", good)
        row = Standard.objects.get(pk=made["id"])
        kept = {one["attribute"]: one for one in row.limits}
        self.assertEqual((kept[name]["low"], kept[name]["statutory"]), (law["low"] + 1, True))
        # What the law asks besides stays in force without being written again.
        self.assertEqual(
            {a for a, one in kept.items() if one.get("statutory")},
            {one["attribute"] for one in shipped.limits if one.get("statutory")},
        )

    def test_an_own_class_without_law_needs_at_least_one_limit(self) -> None:
        body = {
            "crop_id": Crop.objects.get(slug="pak-choi").pk,
            "seed_class": "quality-declared",
            "name": "Own",
            "source": "x",
            "limits": [],
        }
        self.refused("/seed-standards", body, [({}, "limits", "missing")], keeps=[Standard])

    def test_isolation_rules_and_trays(self) -> None:
        rule = {
            "crop_id": sunflower().pk,
            "seed_class": "certified-1",
            "step": "hybrid",
            "kind": "other cultivar",
            "metres": 640,
            "source": "x",
        }
        self.refused(
            "/isolation-rules",
            rule,
            [
                ({"metres": -1}, "metres", "out_of_range"),
                ({"metres": 20_000}, "metres", "out_of_range"),
                ({"kind": " "}, "kind", "missing"),
                ({"source": ""}, "source", "missing"),
                ({"seed_class": ""}, "seed_class", "unknown_class"),
            ],
            keeps=[IsolationRule],
        )
        tray = {"name": "Own 100", "cells": 100, "cell_ml": 30, "length_cm": 50, "width_cm": 30, "depth_cm": 5}
        there = Container.objects.first()
        assert there is not None
        self.refused(
            "/containers",
            tray,
            [
                ({"name": ""}, "name", "missing"),
                ({"has_holes": False}, "has_holes", "no_holes"),
                ({"cells": 0}, "cells", "out_of_range"),
                ({"cell_ml": 9000}, "cell_ml", "out_of_range"),
                ({"name": there.name.upper()}, "name", "taken"),
            ],
            keeps=[Container],
        )
        self.post("/isolation-rules", rule)
        self.post("/isolation-rules", {**rule, "metres": 700})  # written again it replaces
        own = IsolationRule.objects.get(organisation=self.ctx.organisation)
        self.assertEqual(own.metres, 700)


class InPlaces(RefusalCase):
    def test_places(self) -> None:
        site = Site.objects.get(organisation=self.ctx.organisation)
        good = {"site_id": site.pk, "name": "Bench 9", "kind": "bench", "capacity": 10}
        self.refused(
            "/places",
            good,
            [
                ({"name": ""}, "name", "missing"),
                ({"name": "bench 1"}, "name", "taken"),
                ({"kind": "moon"}, "kind", "unknown"),
                ({"capacity": -1}, "capacity", "out_of_range"),
                ({"gangway": 1}, "gangway", "out_of_range"),
                ({"set_point_c": 60}, "set_point_c", "out_of_range"),
                ({"cooled_to_c": -40}, "cooled_to_c", "out_of_range"),
                ({"corners_m": [[0, 0], [10, 0], [10, 10]]}, "outline", "not_a_field"),
                ({"kind": "field", "corners_m": [[0, 0], [10, 0]]}, "corners_m", "too_few"),
                ({"kind": "field", "corners_m": [[0, 0], [10, 10], [10, 0], [0, 10]]}, "outline", "not_a_field"),
            ],
            keeps=[Place],
        )
        one = Place.objects.get(name="Bench 1")
        self.refused(
            f"/places/{one.pk}",
            {"name": "Bench 1", "kind": "bench", "capacity": 60},
            [
                ({"name": "Bench 2"}, "name", "taken"),
                ({"name": ""}, "name", "missing"),
                ({"set_point_c": 99}, "set_point_c", "out_of_range"),
            ],
            method="patch",
            keeps=[Place],
        )

    def test_where_a_site_lies(self) -> None:
        site = Site.objects.get(organisation=self.ctx.organisation)
        self.refused(
            f"/sites/{site.pk}",
            {"latitude": 41.6, "longitude": -14.2},
            [
                ({"latitude": 88}, "latitude", "out_of_range"),
                ({"longitude": 200}, "longitude", "out_of_range"),
            ],
            method="patch",
            keeps=[Site],
        )
        made = self.call("patch", f"/sites/{site.pk}", {"latitude": 41.7, "longitude": -14.1})
        self.assertEqual((made["latitude"], made["longitude"]), (41.7, -14.1))

    def test_what_grew_where(self) -> None:
        site = Site.objects.get(organisation=self.ctx.organisation)
        field = add_place(self.ctx, site.pk, PlaceSpec("Long field", "field", 100))
        bench = Place.objects.get(name="Bench 1")
        good = {"year": 2026, "crop": "Barley", "family": "Poaceae"}
        self.refused(
            f"/places/{field.pk}/history",
            good,
            [
                ({"year": 1890}, "year", "out_of_range"),
                ({"year": 2040}, "year", "out_of_range"),
                ({"crop": " "}, "crop", "missing"),
            ],
            keeps=[LandUse],
        )
        self.refused(f"/places/{bench.pk}/history", good, [({}, "place_id", "not_a_field")], keeps=[LandUse])
        for clean in (False, True):
            self.post(f"/places/{field.pk}/history", {**good, "clean": clean})
        use = LandUse.objects.get()
        self.assertTrue(use.inspected_clean)


class InTheHouse(RefusalCase):
    def test_the_rules_of_the_house(self) -> None:
        self.refused(
            "/organisation",
            {},
            [
                ({"name": " "}, "name", "missing"),
                ({"working_days": []}, "working_days", "out_of_range"),
                ({"sowing_days": [9]}, "sowing_days", "out_of_range"),
                ({"chance_wanted": 0.2}, "chance_wanted", "out_of_range"),
                ({"safety_days": 99}, "safety_days", "out_of_range"),
                ({"timezone": "Mars/Base"}, "timezone", "unknown"),
            ],
            method="patch",
            keeps=[Organisation],
        )
        made = self.call("patch", "/organisation", {"chance_wanted": 0.9, "safety_days": 3, "working_days": [5, 0, 0]})
        self.assertEqual((made["chance_wanted"], made["safety_days"], made["working_days"]), (0.9, 3, [0, 5]))

    def test_people(self) -> None:
        good = {"username": "wren", "password": "quiet-harbour-9", "full_name": "Wren", "role": "inspector"}
        self.refused(
            "/members",
            good,
            [
                ({"role": "king"}, "role", "unknown"),
                ({"username": ""}, "username", "missing"),
                ({"password": "short"}, "password", "weak"),
                ({"username": "ada"}, "username", "taken"),
            ],
            keeps=[Member],
        )
        only = Member.objects.get(user__username="ada")
        self.refused(
            f"/members/{only.pk}",
            {},
            [
                ({"role": "viewer"}, "role", "last_manager"),
                ({"active": False}, "role", "last_manager"),
                ({"role": "x"}, "role", "unknown"),
            ],
            method="patch",
            keeps=[Member],
        )
        member(self.ctx, "second", "manager")
        self.assertEqual(self.call("patch", f"/members/{only.pk}", {"role": "viewer"})["role"], "viewer")

    def test_closed_days_and_the_clock(self) -> None:
        self.post("/closed-days", {"day": "2027-12-25", "name": "Christmas"})
        self.post("/closed-days", {"day": "2027-12-25", "name": "Christmas Day"})
        self.assertEqual([d["name"] for d in self.get("/closed-days")], ["Christmas Day"])
        self.post("/closed-days", {"day": "2027-12-25", "closed": False})
        self.assertFalse(ClosedDay.objects.exists())
        self.refused(
            "/practice-clock",
            {"to": "2027-07-07"},
            [
                ({"to": "2027-07-06"}, "to", "backwards"),
                ({"to": "2029-07-06"}, "to", "too_far"),
            ],
            keeps=[Organisation],
        )
        self.ctx.organisation.practice_date = None
        self.ctx.organisation.save()
        self.refused("/practice-clock", {"to": "2027-07-07"}, [({}, "to", "no_practice")], keeps=[Organisation])

    def test_somebody_without_a_nursery_is_told_whom_to_ask(self) -> None:
        Member.objects.update(active=False)
        told = self.get("/orders", status=403)
        self.assertIn("Ask a manager", told["title"])

    def test_of_two_nurseries_the_chosen_one_is_opened(self) -> None:
        other = make_house("Second", username="bob")
        assert self.ctx.user is not None
        Member.objects.create(user=self.ctx.user, organisation=other.organisation, role="manager")
        self.assertEqual(len(self.get("/members")), 1)
        session = self.client.session
        session["organisation"] = other.organisation.pk
        session.save()
        self.assertEqual({m["username"] for m in self.get("/members")}, {"ada", "bob"})
        session["organisation"] = 10**6  # one that is not hers any more
        session.save()
        self.assertEqual({m["username"] for m in self.get("/members")}, {"ada"})


class InLots(RefusalCase):
    def test_receiving(self) -> None:
        crop, other = Crop.objects.get(slug="pak-choi"), sunflower()
        line = Line.objects.create(organisation=self.ctx.organisation, crop=other, name="Sun", slug="sun")
        good = {"crop_id": crop.pk, "quantity": "500 g"}
        self.refused(
            "/lots",
            good,
            [
                ({"line_id": line.pk}, "line_id", "other_crop"),
                ({"received_on": "2028-01-01"}, "received_on", "in_the_future"),
                ({"germination_percent": 90, "tested_on": "2028-01-01"}, "tested_on", "in_the_future"),
                ({"quantity": ""}, "quantity", "missing"),
                ({"quantity": "some"}, "quantity", "not_a_number"),
                ({"germination_percent": 140}, "value", "out_of_range"),
                ({"tgw": "9 kg"}, "value", "out_of_range"),
                ({"seed_class": "royal"}, "seed_class", "unknown_class"),
            ],
            keeps=[Lot, Movement, TestResult],
        )
        made = self.post(
            "/lots", {"crop_id": crop.pk, "packets": 4, "packet_size": "250 g", "seed_class": "Certified 1"}
        )
        lot = Lot.objects.get(pk=made["id"])
        self.assertEqual((float(lot.balance), lot.seed_class), (1000, "certified-1"))

    def test_tests_and_stock_by_hand(self) -> None:
        lot = seed_lot(self.ctx)
        self.refused(
            f"/lots/{lot.pk}/tests",
            {"kind": "germination", "value": 0.9, "tested_on": "2027-07-01"},
            [
                ({"kind": "colour"}, "kind", "not_a_choice"),
                ({"value": 1.2}, "value", "out_of_range"),
                ({"kind": "tgw", "value": 0}, "value", "out_of_range"),
                ({"tested_on": "2028-01-01"}, "tested_on", "in_the_future"),
            ],
            keeps=[TestResult],
        )
        self.refused(
            f"/lots/{lot.pk}/balance",
            {"counted": 480, "reason": "weighed again"},
            [
                ({"reason": " "}, "reason", "missing"),
                ({"counted": -1}, "counted", "out_of_range"),
            ],
            keeps=[Movement],
        )
        self.post(f"/lots/{lot.pk}/tests", {"kind": "tgw", "value": 2.9, "tested_on": "2027-07-01"})
        self.post(f"/lots/{lot.pk}/tests", {"kind": "tgw", "value": 2.2, "tested_on": "2027-06-01"})
        lot.refresh_from_db()
        self.assertEqual(lot.tgw_g, 2.9)  # the newest by its day, not by its entry


class OfOwnSeed(SeedCase, RefusalCase):
    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        cls.live_to_july()

    def test_at_the_weighbridge(self) -> None:
        self.on(date(2027, 9, 10))
        self.refused(
            f"/seed-blocks/{self.block.pk}/male-out",
            {"on": "2027-08-20", "how": "cut and destroyed", "client_uuid": ""},
            [
                ({"on": "2027-04-01"}, "on", "too_early"),
                ({"on": "2027-10-01"}, "on", "in_the_future"),
                ({"how": "sold"}, "how", "not_a_choice"),
            ],
            keeps=[MaleRemoval],
        )
        self.post(
            f"/seed-blocks/{self.block.pk}/male-out",
            {"on": "2027-08-20", "how": "cut and destroyed", "client_uuid": uid()},
        )
        good = {
            "on": "2027-09-10",
            "gross": "9000",
            "tare": "7200",
            "moisture_percent": 12.0,
            "equipment_clean": True,
            "client_uuid": "",
        }
        self.refused(
            f"/seed-blocks/{self.block.pk}/harvest",
            good,
            [
                ({"gross": "200 t"}, "gross_kg", "out_of_range"),
                ({"tare": "9000"}, "tare_kg", "out_of_range"),
                ({"moisture_percent": 0}, "moisture_percent", "out_of_range"),
                ({"purity_percent": 101}, "purity_percent", "out_of_range"),
                ({"on": "2027-09-11"}, "on", "in_the_future"),
                ({"equipment_clean": False}, "equipment_clean", "not_clean"),
            ],
            keeps=[Lot, Intake, Movement],
        )

    def test_at_the_dryer_and_the_cleaner(self) -> None:
        self.on(date(2027, 9, 10))
        self.post(
            f"/seed-blocks/{self.block.pk}/male-out",
            {"on": "2027-08-20", "how": "cut and destroyed", "client_uuid": uid()},
        )
        raw = self.load(self.block, on="2027-09-10")["loads"][-1]["lot_id"]
        bought = parent_seed(self.ctx, "AA-1", label="B-9")
        good = {"on": "2027-09-10", "to_percent": 9, "client_uuid": ""}
        self.refused(
            f"/lots/{raw}/drying",
            good,
            [
                ({"to_percent": 12}, "to_percent", "out_of_range"),
                ({"to_percent": 1}, "to_percent", "out_of_range"),
                ({"on": "2027-09-12"}, "on", "in_the_future"),
                ({"mass_after": "1790 kg"}, "mass_after_kg", "too_heavy"),
                ({"mass_after": "1600 kg"}, "reason", "missing"),
            ],
            keeps=[Movement],
        )
        self.refused(f"/lots/{bought.pk}/drying", good, [({}, "lot_id", "not_own")], keeps=[Movement])
        told = self.post(
            f"/lots/{raw}/drying",
            {**good, "client_uuid": uid(), "mass_after": "1700 kg", "reason": "spilt at the elevator"},
        )
        self.assertTrue(told["message"])
        lot = Lot.objects.get(pk=raw)
        self.assertEqual(lot.balance, 1_700_000)
        self.assertEqual(sum(m.quantity for m in lot.movements.all()), lot.balance)
        loss = lot.movements.get(kind="drying loss")
        self.assertEqual(loss.reason, "spilt at the elevator")
        clean = {
            "on": "2027-09-10",
            "lots": [{"lot_id": raw, "kg": "1700"}],
            "clean": "1600",
            "screenings": "95",
            "client_uuid": "",
        }
        self.refused(
            "/cleaning",
            clean,
            [
                ({"lots": []}, "lots", "missing"),
                ({"lots": [{"lot_id": raw, "kg": "800"}, {"lot_id": raw, "kg": "900"}]}, "lots", "missing"),
                ({"clean": "0"}, "clean_kg", "missing"),
                ({"clean": "1650"}, "clean_kg", "too_much"),
                ({"clean": "1300"}, "reason", "missing"),
                ({"lots": [{"lot_id": raw, "kg": "1800"}], "clean": "1700"}, "lots.0.kg", "not_enough"),
            ],
            keeps=[Lot, Movement],
        )

    def test_in_the_laboratory(self) -> None:
        lot = self.clean_lot(self.block)
        good: dict[str, Any] = {
            "kind": "germination",
            "tested_on": str(self.ctx.today),
            "normal": [92, 93, 91, 94],
            "client_uuid": "",
        }
        purity = {"kind": "purity", "pure_g": 99.0, "inert_g": 0.5, "other_g": 0.5}
        self.refused(
            f"/lots/{lot.pk}/results",
            good,
            [
                ({"tested_on": "2028-01-01"}, "tested_on", "in_the_future"),
                ({"tested_on": "2027-04-01"}, "tested_on", "too_early"),
                ({**purity, "inert_g": None}, "inert_g", "missing"),
                ({**purity, "other_g": -1}, "other_g", "missing"),
                ({**purity, "pure_g": 0, "inert_g": 0, "other_g": 0}, "pure_g", "missing"),
                ({"kind": "moisture", "duplicates": [9.0]}, "duplicates", "length"),
                ({"kind": "moisture", "duplicates": [9.0, 70]}, "duplicates", "out_of_range"),
                ({"kind": "other_seeds", "sample_g": 500}, "seeds_found", "missing"),
                ({"kind": "other_seeds", "seeds_found": 3}, "sample_g", "missing"),
            ],
            keeps=[TestResult],
        )
        first = self.post(f"/lots/{lot.pk}/results", {**good, "client_uuid": uid()})["id"]
        self.refused(
            f"/lots/{lot.pk}/results",
            {**good, "replaces": first, "reason": "misread"},
            [
                ({"reason": " "}, "reason", "missing"),
                ({**purity}, "replaces", "other_result"),
            ],
            keeps=[TestResult],
        )

    def test_at_the_verdict_and_the_seals(self) -> None:
        lot = self.clean_lot(self.block)
        self.accept_all(self.block)
        for kind in ("germination", "purity", "moisture", "other_seeds"):
            self.result(lot, kind)
        good = {"decision": "release", "client_uuid": ""}
        self.refused(
            f"/lots/{lot.pk}/verdicts",
            good,
            [
                ({"decision": "sell"}, "decision", "not_a_choice"),
                ({"decision": "reject"}, "reason", "reason_missing"),
                ({"decision": "downgrade", "seed_class": "basic"}, "seed_class", "not_below"),
                ({"decision": "downgrade", "seed_class": "certified-2"}, "seed_class", "no_standard"),
            ],
            keeps=[Verdict],
        )
        seals = f"/lots/{lot.pk}/seals"
        self.refused(seals, {"numbers": ["1"]}, [({}, "lot_id", "wrong_state")], keeps=[Seal])
        self.decide(lot, "release")
        self.refused(
            seals,
            {"numbers": ["1"]},
            [
                ({"numbers": [" "]}, "numbers", "missing"),
                ({"numbers": ["1", "1"]}, "numbers", "twice"),
                ({"numbers": ["x" * 41]}, "numbers", "too_large"),
            ],
            keeps=[Seal],
        )
        self.post(seals, {"numbers": ["1", "2"]})
        self.refused(seals, {"numbers": ["3", "2"]}, [({}, "numbers", "used")], keeps=[Seal])


class InTheBlock(SeedCase, RefusalCase):
    def test_laying_out(self) -> None:
        _, batch = self.order()
        fields = {p.name: p.pk for p in Place.objects.filter(organisation=self.ctx.organisation)}
        bare = add_place(
            self.ctx, Site.objects.get(organisation=self.ctx.organisation).pk, PlaceSpec("Bare", "field", 20_000)
        )
        _, plants = self.planned()
        good = {"batch_id": batch.pk, "field_id": fields["Long field"]}
        self.refused(
            "/seed-blocks",
            good,
            [
                ({"batch_id": plants.pk}, "batch_id", "no_seed_crop"),
                ({"field_id": fields["Bench 1"]}, "field_id", "missing"),
                ({"field_id": bare.pk}, "outline", "missing"),
                ({"corners_m": [[0, 0], [5, 5]]}, "corners_m", "too_few"),
            ],
            keeps=[SeedBlock],
        )
        self.post("/seed-blocks", good)
        self.refused("/seed-blocks", good, [({}, "batch_id", "laid_out")], keeps=[SeedBlock])

    def test_the_layout(self) -> None:
        block = self.laid_out()
        path = f"/seed-blocks/{block.pk}/preview"
        faults: list[Fault] = [
            ({"bearing_deg": 400}, "bearing_deg", "out_of_range"),
            ({"row_spacing_m": 0.01}, "row_spacing_m", "out_of_range"),
            ({"border_rows": 61}, "border_rows", "out_of_range"),
            ({"headland_rows": -1}, "headland_rows", "out_of_range"),
            ({"planter_rows": 0}, "planter_rows", "out_of_range"),
            ({"male_sowings": 7}, "male_sowings", "out_of_range"),
            ({"male_gap_days": 41}, "male_gap_days", "out_of_range"),
            ({"in_row_cm": {"F": 0}}, "in_row_cm.F", "out_of_range"),
            ({"establishment": {"M": 0}}, "establishment.M", "out_of_range"),
            ({"pattern": "FFXX"}, "pattern", "not_a_pattern"),
        ]
        self.refused(path, {}, faults, keeps=[SeedBlock])
        version = self.get(f"/seed-blocks/{block.pk}")["version"]
        self.refused(f"/seed-blocks/{block.pk}/keep", {"version": version}, faults, keeps=[SeedBlock])
        told = self.post(f"/seed-blocks/{block.pk}/undo", {}, status=422)["errors"][0]
        self.assertEqual(told["code"], "nothing_to_undo")

    def test_a_preview_says_before_and_after_and_saves_nothing(self) -> None:
        block = self.laid_out()
        before = self.get(f"/seed-blocks/{block.pk}")
        sow = before["layout"]["sow_on"]
        later = {
            role: str(date.fromisoformat(day).replace(month=date.fromisoformat(day).month + 1))
            for role, day in sow.items()
        }
        seen = self.post(f"/seed-blocks/{block.pk}/preview", {"pattern": "FFFFFFMM", "sow_on": later})
        figures = {one["name"]: one for one in seen["figures"]}
        self.assertGreater(figures["Female share"]["after"], figures["Female share"]["before"])
        self.assertEqual((figures["Sow F"]["before"], figures["Sow F"]["after"]), (sow["F"], later["F"]))
        self.assertGreater(figures["Seed ready"]["after"], figures["Seed ready"]["before"])
        self.assertGreater(figures["Seed F"]["after"], figures["Seed F"]["before"])
        self.assertLess(figures["Seed M"]["after"], figures["Seed M"]["before"])
        self.assertEqual(self.get(f"/seed-blocks/{block.pk}"), before)

    def test_a_preview_names_the_order_that_it_makes_late(self) -> None:
        block = self.laid_out(due="2027-W42", until="2027-W42")
        seen = self.post(f"/seed-blocks/{block.pk}/preview", {"sow_on": {"F": "2027-06-25", "M": "2027-06-25"}})
        ready = next(one for one in seen["figures"] if one["name"] == "Seed ready")
        number = block.batch.allocations.get().order_line.order.number
        self.assertEqual((ready["worse"], ready["note"]), (True, f"too late for order {number}"))

    def test_sowing_by_line(self) -> None:
        block = self.laid_out()
        female, male = parent_seed(self.ctx, "AA-1"), parent_seed(self.ctx, "RR-2", label="B-2")
        old = parent_seed(self.ctx, "AA-1", seed_class="certified-1", label="B-3")
        bare = parent_seed(self.ctx, "AA-1", label="")
        self.on(date(2027, 4, 15))
        good = {"role": "F", "lot_id": female.pk, "kg": "3", "on": "2027-04-15", "client_uuid": ""}
        self.refused(
            f"/seed-blocks/{block.pk}/sown",
            good,
            [
                ({"on": "2027-04-16"}, "on", "in_the_future"),
                ({"role": "X"}, "role", "not_a_choice"),
                ({"kg": "0"}, "kg", "missing"),
                ({"kg": "lots"}, "kg", "not_a_number"),
                ({"lot_id": male.pk}, "lot_id", "other_line"),
                ({"lot_id": old.pk}, "lot_id", "wrong_class"),
                ({"lot_id": bare.pk}, "lot_id", "no_label"),
                ({"kg": "13"}, "quantity", "not_enough"),
            ],
            keeps=[BlockSowing, Movement],
        )

    def test_what_is_seen_and_what_is_chosen(self) -> None:
        block = self.sown()
        self.on(date(2027, 6, 24))
        good = {"role": "F", "stage": "star-bud", "on": "2027-06-18", "client_uuid": ""}
        path = f"/seed-blocks/{block.pk}/seen"
        self.refused(
            path,
            good,
            [
                ({"role": "X"}, "role", "not_a_choice"),
                ({"stage": "ripe"}, "stage", "not_a_choice"),
                ({"on": "2027-04-01"}, "on", "out_of_range"),
            ],
            keeps=[FlowerObservation],
        )
        same = {**good, "client_uuid": uid()}
        self.post(path, same)
        self.post(path, same)
        first = FlowerObservation.objects.get()
        self.refused(
            path,
            {**good, "on": "2027-06-20", "replaces": first.pk},
            [({}, "reason", "missing")],
            keeps=[FlowerObservation],
        )
        corrected = self.post(
            path, {**good, "on": "2027-06-20", "replaces": first.pk, "reason": "other rows", "client_uuid": uid()}
        )
        seen = [s["seen_on"] for p in corrected["flowering"]["match"]["parents"] for s in p["seen"]]
        self.assertEqual(seen, ["2027-06-20"])
        self.refused(
            f"/seed-blocks/{block.pk}/remedies",
            {"remedy_id": 10**6, "chosen": True, "client_uuid": ""},
            [({}, "remedy_id", "does_not_fit")],
            keeps=[RemedyUse],
        )
        self.refused(
            f"/seed-blocks/{block.pk}/hives",
            {"hives": 7, "on": "2027-07-12"},
            [
                ({"hives": 0}, "hives", "out_of_range"),
                ({"on": "2027-06-01"}, "on", "past"),
            ],
            keeps=[SeedBlock],
        )


class SettingUp(RefusalCase):
    @classmethod
    def setUpTestData(cls) -> None:
        """No house yet: the first visitor sets it up."""

    def setUp(self) -> None:
        pass

    def test_a_climate_is_twelve_means_that_can_be(self) -> None:
        answers = {
            "organisation": "Own",
            "timezone": "UTC",
            "full_name": "Ola",
            "username": "ola",
            "password": "quiet-harbour-9",
            "site": "Yard",
            "latitude": 59.9,
            "monthly_c": COAST,
            "working_days": [0],
            "sowing_days": [],
            "places": [],
        }
        self.refused(
            "/setup",
            answers,
            [
                ({"monthly_c": COAST[:11]}, "monthly_c", "length"),
                ({"monthly_c": [*COAST[:11], 60]}, "monthly_c.11", "out_of_range"),
                ({"latitude": 95}, "latitude", "out_of_range"),
            ],
            keeps=[Organisation, Member],
        )


class InBatches(RefusalCase):
    def setUp(self) -> None:
        super().setUp()
        self.lot = seed_lot(self.ctx)
        self.line, self.batch = self.planned()
        self.path = f"/batches/{self.batch.pk}"

    def sow(self) -> None:
        self.post(f"{self.path}/sown", {"on": "2027-07-06", "trays": 60})
        self.ctx.organisation.refresh_from_db()

    def later(self, day: date) -> None:
        self.ctx.organisation.practice_date = day
        self.ctx.organisation.save()

    def test_before_it_is_sown(self) -> None:
        other = seed_lot(self.ctx, "endive")
        keeps: list[type[models.Model]] = [Movement, Count, Lot]
        self.refused(
            f"{self.path}/sown",
            {"on": "2027-07-06", "trays": 60},
            [
                ({"on": "2027-07-07"}, "on", "in_the_future"),
                ({"on": "2027-01-05"}, "on", "too_early"),
                ({"lot_id": other.pk}, "lot_id", "other_crop"),
                ({"grams": 900}, "quantity", "not_enough"),
            ],
            keeps=keeps,
        )
        self.refused(
            f"{self.path}/moved", {"stage": "germinate", "on": "2027-07-06"}, [({}, "stage", "not_sown")], keeps=keeps
        )
        self.refused(
            f"{self.path}/losses",
            {"lost": 5, "cause": "slugs", "on": "2027-07-06", "client_uuid": ""},
            [({}, "state", "not_sown")],
            keeps=keeps,
        )
        self.refused(
            f"{self.path}/graded",
            {"good": 5, "on": "2027-07-06", "client_uuid": ""},
            [({}, "state", "not_sown")],
            keeps=keeps,
        )
        count = {"trays": [{"sampled": 240, "found": 200}], "on": "2027-07-06", "client_uuid": ""}
        self.refused(f"{self.path}/counts", count, [({}, "state", "not_sown")], keeps=keeps)

    def test_while_it_grows(self) -> None:
        self.sow()
        self.later(date(2027, 7, 12))
        keeps: list[type[models.Model]] = [Movement, Count, Lot]
        self.refused(f"{self.path}/sown", {"on": "2027-07-06", "trays": 60}, [({}, "state", "sown")], keeps=keeps)
        self.refused(
            f"{self.path}/moved",
            {"stage": "grow", "on": "2027-07-12"},
            [
                ({"stage": "grade"}, "stage", "not_next"),
                ({"stage": "nowhere"}, "stage", "out_of_range"),
                ({"on": "2027-07-01"}, "on", "too_early"),
                ({"on": "2027-07-13"}, "on", "in_the_future"),
            ],
            keeps=keeps,
        )
        self.refused(
            f"{self.path}/losses",
            {"lost": 100, "cause": "slugs", "on": "2027-07-12", "client_uuid": ""},
            [
                ({"cause": " "}, "cause", "missing"),
                ({"lost": 10**6}, "lost", "out_of_range"),
                ({"on": "2027-07-13"}, "on", "in_the_future"),
                ({"on": "2027-07-01"}, "on", "too_early"),
            ],
            keeps=keeps,
        )
        self.refused(
            f"{self.path}/counts",
            {"trays": [{"sampled": 240, "found": 200}], "on": "2027-07-12", "client_uuid": ""},
            [
                ({"trays": [{"sampled": 240, "found": 241}]}, "trays.0.found", "out_of_range"),
                ({"on": "2027-07-13"}, "on", "in_the_future"),
                ({"on": "2027-07-01"}, "on", "too_early"),
                ({"trays": [{"sampled": 240, "found": 200}] * 61}, "trays", "too_many"),
            ],
            keeps=keeps,
        )
        self.refused(
            f"{self.path}/graded",
            {"good": 9000, "out": [], "on": "2027-07-12", "client_uuid": ""},
            [
                ({"good": 0}, "good", "missing"),
                ({"good": 20_000}, "good", "too_many"),
                ({"on": "2027-07-13"}, "on", "in_the_future"),
                ({"on": "2027-07-05"}, "on", "too_early"),
            ],
            keeps=keeps,
        )

    def test_a_large_loss_sent_twice_is_one_loss(self) -> None:
        self.sow()
        body = {"lost": 9000, "cause": "a burst pipe", "on": "2027-07-06", "client_uuid": uid()}
        first = self.post(f"{self.path}/losses", body)
        self.assertEqual(self.post(f"{self.path}/losses", body)["id"], first["id"])
        self.assertEqual(Count.objects.filter(kind="loss").count(), 1)

    def test_changes_of_the_plan(self) -> None:
        endive = seed_lot(self.ctx, "endive")
        self.refused(
            f"{self.path}/preview",
            {},
            [
                ({"lot_id": endive.pk}, "lot_id", "other_crop"),
                ({"rung": {"stage": "nowhere", "quantity": 5}}, "rung", "out_of_range"),
                ({"rate": {"mean": 0.9, "reason": "seen"}}, "stage", "missing"),
                ({"place_id": Place.objects.all()[0].pk}, "stage", "missing"),
            ],
            keeps=[Movement],
        )
        self.sow()
        self.refused(
            f"{self.path}/preview",
            {},
            [
                ({"sow_on": "2027-07-20"}, "sow_on", "happened"),
                ({"trays": 80}, "trays", "happened"),
            ],
            keeps=[Movement],
        )

    def test_handing_over(self) -> None:
        self.sow()
        self.later(date(2027, 9, 7))
        self.post(f"{self.path}/graded", {"good": 13_000, "out": [], "on": "2027-09-07", "client_uuid": uid()})
        lot = Lot.objects.get(form="plug")
        pick = {"line_id": self.line.pk, "lot_id": lot.pk, "quantity": 12_000}
        good = {"order_id": self.line.order_id, "on": "2027-09-07", "picks": [pick], "client_uuid": ""}
        self.refused(
            "/deliveries",
            good,
            [
                ({"on": "2027-09-08"}, "on", "in_the_future"),
                ({"on": "2027-09-06"}, "on", "too_early"),
                ({"picks": []}, "picks", "missing"),
                ({"picks": [{**pick, "quantity": 12_001}]}, "picks.0.quantity", "too_many"),
                ({"picks": [{**pick, "line_id": 10**6}]}, "picks.0.line_id", "not_open"),
                ({"picks": [{**pick, "lot_id": self.lot.pk}]}, "picks.0.lot_id", "does_not_fit"),
                (
                    {"picks": [{**pick, "quantity": 11_000}], "short": [{"line_id": self.line.pk, "cause": " "}]},
                    "short",
                    "missing",
                ),
            ],
            keeps=[Movement, Delivery],
        )
        self.post("/deliveries", {**good, "client_uuid": uid()})
        lot.refresh_from_db()
        self.assertEqual(lot.balance, 1000)


class InTheShapeOfAnInput(RefusalCase):
    """What a schema finds wrong is said in words of ours, at the door of the rooms and of the calculators alike."""

    def test_at_the_door_of_a_room(self) -> None:
        self.refused(
            "/tasks",
            {"title": "Mend the door", "due": "2027-07-08"},
            [
                ({"part_of_day": "noon"}, "part_of_day", "not_a_choice"),
                ({"due": "soon"}, "due", "not_a_date"),
                ({"minutes": -1}, "minutes", "out_of_range"),
                ({"minutes": 10**6}, "minutes", "out_of_range"),
                ({"minutes": "long"}, "minutes", "not_a_number"),
                ({"minutes": "2 kg"}, "minutes", "unknown_unit"),
                ({"title": "x" * 201}, "title", "too_large"),
                ({"title": 5}, "title", "wrong_type"),
                ({"title": " "}, "title", "missing"),
            ],
            keeps=[Task],
        )
        self.refused("/tasks", {"title": "Mend the door"}, [({}, "due", "missing")], keeps=[Task])

    def test_the_sentences_name_the_choices_and_the_bounds(self) -> None:
        def said(**more: Any) -> str:
            body = {"title": "Mend", "due": "2027-07-08", **more}
            return str(self.post("/tasks", body, status=422)["errors"][0]["message"])

        self.assertEqual(said(part_of_day="noon"), "Choose one of early, morning, afternoon or evening.")
        self.assertEqual(said(minutes=-1), "-1 minutes cannot be; write 0 to 100,000.")
        rule = {
            "crop_id": 1,
            "seed_class": "c",
            "step": "open",
            "kind": "same species",
            "metres": 200,
            "source": "own",
        }
        for wrong, words in (
            (-1, "0 or more is needed."),
            (121, "120 or less is needed."),
            ("long", "A whole number is needed."),
        ):
            told = self.post("/isolation-rules", {**rule, "time_margin_days": wrong}, status=422)["errors"]
            self.assertEqual([one["message"] for one in told], [words])
        self.assertEqual(said(due="soon"), "A date is needed, written YYYY-MM-DD.")
        self.assertEqual(said(title="x" * 201), "At most 200 characters may stand here.")

    def test_at_the_door_of_the_calculators(self) -> None:
        for name, body, field, words in (
            ("drying", {"from_percent": 19.5, "to_percent": 16}, "mass_kg", "This is needed."),
            ("drying", {"mass_kg": "heavy", "from_percent": 19.5, "to_percent": 16}, "mass_kg", "A number is needed."),
            (
                "drying",
                {"mass_kg": 5, "from_percent": 19.5, "to_percent": 16, "colour": 1},
                "colour",
                "There is no such field here.",
            ),
            ("generations", {"need_kg": 5, "steps": []}, "steps", "At least 1 must stand here, not 0."),
            (
                "reject-number",
                {"plants": 100, "limit": 0.01, "decision": "dice"},
                "decision",
                "Choose one of reject_number or plain_max.",
            ),
            (
                "reject-number",
                {"plants": 1.5, "limit": 0.01, "decision": "plain_max"},
                "plants",
                "A whole number is needed.",
            ),
            ("off-type-interval", {"plants": 100, "found": -1}, "found", "0 or more is needed, not -1."),
            ("row-plan", {"outline": "{x}"}, "outline", "A list is needed."),
        ):
            told = self.call("post", f"/calc/{name}", body, status=422)["errors"]
            self.assertIn((field, words), [(one["field"], one["message"]) for one in told], told)


class WhatNobodyForesaw(HouseCase):
    def test_a_request_that_breaks_tells_its_number_and_the_log_has_it_whole(self) -> None:
        self.client.raise_request_exception = False
        with (
            patch("aldrip.orders.services.export", side_effect=RuntimeError("moon")),
            self.assertLogs(level="WARNING") as logs,
        ):
            answer = self.client.get("/api/orders/export")
        self.assertEqual((answer.status_code, answer["Content-Type"]), (500, "application/problem+json"))
        number = answer["X-Request-Id"]
        self.assertIn(number, answer.json()["title"])
        self.assertNotIn("moon", answer.content.decode())
        line = json.loads(Lines().format(next(one for one in logs.records if one.exc_info)))
        self.assertEqual((line["number"], line["level"]), (number, "error"))
        self.assertIn("RuntimeError: moon", line["trace"])

    def test_whoever_watches_it_is_answered(self) -> None:
        self.assertEqual(Client().get("/healthz").status_code, 200)
        with patch("aldrip.urls.connection.cursor", side_effect=OperationalError("gone")), self.assertLogs():
            self.assertEqual(Client().get("/healthz").status_code, 503)
