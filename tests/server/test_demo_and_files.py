"""The demo tells its stories by the rules; the tree keeps its promises about what stands in it."""

import json
import re
import shutil
import subprocess
from datetime import date
from pathlib import Path

from django.conf import settings
from django.core.management import call_command
from django.core.management.base import CommandError
from django.test import Client, TestCase, override_settings

from aldrip.accounts.context import Ctx
from aldrip.accounts.decisions import Look, waiting
from aldrip.accounts.models import Member, Organisation, User
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch
from aldrip.batches.resowing import offer_for
from aldrip.batches.saved import load_batch
from aldrip.demo.loader import is_whole
from aldrip.diary.models import Task
from aldrip.lots.models import Lot, Movement
from aldrip.methods.library import load_library
from aldrip.orders.models import OrderLine
from aldrip_core.check_character import is_valid
from tests.server.test_archive import RoundOfTheDemo
from tests.server.test_taken_back import WholeSeason

ROOT = Path(settings.ROOT)


class OwnNursery(TestCase):
    def test_the_demo_is_never_loaded_over_or_beside_an_own_nursery(self) -> None:
        load_library()
        for demo_database in (False, True):
            with override_settings(IS_DEMO=demo_database):
                organisation = Organisation.objects.create(name="Ada's own", demo=False)
                with self.assertRaisesRegex(CommandError, "holds Ada's own, which is not the demo"):
                    call_command("load_demo", verbosity=0)
                self.assertEqual(list(Organisation.objects.all()), [organisation])
                self.assertFalse(User.objects.exists())
                organisation.delete()
        with override_settings(IS_DEMO=False), self.assertRaisesRegex(CommandError, "not the demo's database"):
            call_command("load_demo", verbosity=0)
        self.assertFalse(User.objects.exists())


@override_settings(IS_DEMO=True)
class Demo(RoundOfTheDemo, WholeSeason):
    """One test that loads once: the load is no single transaction, see docs/decisions/0002."""

    def test_the_demo_tells_its_stories_by_the_rules(self) -> None:
        load_library()
        self.live()
        self.ctx = Ctx(Organisation.objects.get(), User.objects.get(username="manager"), "manager")
        for told in (
            self.it_is_large_enough_to_look_real_and_its_clock_stands,
            self.the_pak_choi_can_be_sown_again_until_friday_9_july,
            self.the_other_stories_this_slice_reaches,
            self.stock_balances_and_every_code_checks,
            self.each_role_opens_every_room,
            self.loading_again_does_nothing,
            self.it_goes_out,
            self.it_goes_back_step_by_step,
            self.it_comes_in_again,
        ):
            with self.subTest(told.__name__):
                told()

    def it_is_large_enough_to_look_real_and_its_clock_stands(self) -> None:
        self.assertTrue(is_whole())
        self.assertEqual(self.ctx.today, date(2027, 7, 6))
        self.assertGreaterEqual(OrderLine.objects.count(), 20)
        self.assertGreaterEqual(Batch.objects.count(), 30)
        self.assertEqual(set(Batch.objects.values_list("state", flat=True)), {"planned", "sown", "ready", "delivered"})
        self.assertEqual(
            {m.role for m in Member.objects.all()},
            {"manager", "supervisor", "inspector", "laboratory", "dispatch", "viewer"},
        )

    def the_pak_choi_can_be_sown_again_until_friday_9_july(self) -> None:
        batch = Batch.objects.get(allocations__order_line__order__number="118", state="sown")
        self.assertEqual(batch.stages.get(key="sow").actual_start, date(2027, 6, 29))
        self.assertAlmostEqual(batch.counted or 0, 0.61, delta=0.004)
        offer = offer_for(self.ctx, load_batch(self.ctx, batch.pk))
        assert offer is not None
        self.assertEqual(offer.last_day, date(2027, 7, 9))
        self.assertGreaterEqual(offer.chance_after, 0.95)
        self.assertLess(offer.chance_before, 0.05)

    def the_other_stories_this_slice_reaches(self) -> None:
        lavender = OrderLine.objects.get(order__number="126")
        self.assertTrue(lavender.problem.startswith("Cannot be met as asked: the earliest day is"))
        ground = Ground(self.ctx)
        said = [one.words.sentence for one in waiting(Look(self.ctx, {"ground": ground}))]
        self.assertTrue(any(re.search(r"Heron \d is over by \d+ m² from .* week 30\.", s) for s in said), said)
        endive = Batch.objects.filter(crop__slug="endive", state="planned").first()
        assert endive is not None
        # The hot week would stop it: it lies in the germination room first, and comes back to the bench.
        moves = Task.objects.filter(subject=endive.uuid, key__in=("cool-in", "cool-out")).order_by("due_from")
        self.assertEqual([move.key for move in moves], ["cool-in", "cool-out"])
        self.assertIn(moves[0].place.kind if moves[0].place else "", ("germination", "shed"))
        self.assertEqual(endive.problems, [])
        parsnip = Lot.objects.get(crop__slug="parsnip")
        tests = list(
            parsnip.test_results.filter(kind="germination").order_by("tested_on").values_list("value", flat=True)
        )
        self.assertEqual(tests, sorted(tests, reverse=True))
        self.assertEqual(parsnip.germination, tests[-1])
        short = OrderLine.objects.get(state="short")
        self.assertTrue(short.short_cause)

    def stock_balances_and_every_code_checks(self) -> None:
        for lot in Lot.objects.all():
            self.assertEqual(sum(m.quantity for m in Movement.objects.filter(lot=lot)), lot.balance, lot.code)
            self.assertTrue(is_valid(lot.code), lot.code)
        for code in Batch.objects.values_list("code", flat=True):
            self.assertTrue(is_valid(code), code)
        delivered = -sum(m.quantity for m in Movement.objects.filter(kind="delivered"))
        self.assertEqual(delivered, sum(OrderLine.objects.values_list("delivered", flat=True)))

    def each_role_opens_every_room(self) -> None:
        paths = (
            "/session",
            "/orders",
            "/batches",
            "/lots",
            "/deliveries",
            "/season-line",
            "/day",
            "/places",
            "/library",
            "/board?start=2027-06-07&end=2027-09-27",
        )
        for user in User.objects.all():
            client = Client()
            client.force_login(user)
            for path in paths:
                self.assertEqual(client.get(f"/api{path}").status_code, 200, f"{user.username} {path}")

    def loading_again_does_nothing(self) -> None:
        call_command("load_demo", verbosity=0)
        self.assertEqual(Organisation.objects.count(), 1)


class Files(TestCase):
    def tracked(self) -> list[Path]:
        """What belongs to the tree: git's list, or without git what is not built or installed."""
        git = shutil.which("git")
        listed = subprocess.run([git, "ls-files"], cwd=ROOT, capture_output=True, text=True) if git else None
        if listed is not None and listed.returncode == 0:
            return [ROOT / name for name in listed.stdout.splitlines() if (ROOT / name).is_file()]
        foreign = {
            "node_modules",
            "dist",
            ".git",
            "__pycache__",
            ".mypy_cache",
            ".ruff_cache",
            ".import_linter_cache",
            ".hypothesis",
        }
        return [path for path in ROOT.rglob("*") if path.is_file() and not foreign & set(path.relative_to(ROOT).parts)]

    def test_no_lock_file_names_a_registry_and_every_package_is_hashed(self) -> None:
        lock = json.loads((ROOT / "web" / "package-lock.json").read_text())
        self.assertTrue(lock["packages"])
        self.assertFalse([name for name, entry in lock["packages"].items() if "resolved" in entry])
        for path in (ROOT / "requirements").glob("*.txt"):
            text = path.read_text()
            self.assertNotIn("://", text, path.name)
            pinned = re.findall(r"^[a-z0-9][\w.\-\[\],]*==", text, re.MULTILINE | re.IGNORECASE)
            self.assertTrue(pinned)
            self.assertGreaterEqual(text.count("--hash=sha256:"), len(pinned), path.name)

    def test_core_reads_no_file_no_clock_and_no_environment(self) -> None:
        for path in (ROOT / "core").rglob("*.py"):
            text = path.read_text()
            for word in ("import os", "open(", "date.today", "datetime.now", "time.time", "random."):
                self.assertNotIn(word, text, f"{path.name}: {word}")

    def test_the_pages_fetch_nothing_from_elsewhere(self) -> None:
        for path in self.tracked():
            if path.suffix in (".html", ".css", ".ts", ".tsx") and "schema.d.ts" not in path.name:
                for address in re.findall(r"https?://[\w.-]+", path.read_text()):
                    self.assertIn(address, ("http://www.w3.org", "https://www.w3.org"), path.name)

    def test_every_picture_is_in_the_readme_and_there_are_few(self) -> None:
        readme = (ROOT / "README.md").read_text()
        pictures = [p for p in self.tracked() if p.suffix == ".png"]
        self.assertLess(len(pictures), 20)
        for picture in pictures:
            self.assertIn(str(picture.relative_to(ROOT)), readme)
        for named in re.findall(r"docs/screenshots/[\w-]+\.png", readme):
            self.assertTrue((ROOT / named).exists(), named)
