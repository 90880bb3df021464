"""A graft as a person makes it: planned, both halves raised, measured, grafted of two lots, counted, graded, delivered."""

import uuid
from datetime import timedelta

from aldrip.batches.models import Batch, BatchInput
from aldrip.batches.starting import plan_lines
from aldrip.lots import holds
from aldrip.lots import services as lots
from aldrip.lots.models import Lot
from aldrip.methods.models import Crop
from aldrip_core.units import Quantity, Unit
from tests.browser.driver import BrowserCase
from tests.server.house import advance, take_order

WEEK = timedelta(weeks=1)


class Graft(BrowserCase):
    def test_a_batch_made_of_two_lots(self) -> None:
        ctx = self.ctx
        line = take_order(ctx, crop="Tomato", form="grafted plug", quantity="500", due=str(ctx.today + WEEK * 16))
        plan_lines(ctx, [line.pk])
        batch = Batch.objects.get()
        grafted = batch.stages.get(order=0).planned.lower
        self.sign_in()
        self.open(f"/sowing?card={batch.pk}")
        self.see(f"{batch.start} scions, Tomato")
        self.press("Raise the scions")
        self.see("ready on")
        self.press("Raise the rootstocks")
        self.until(lambda: BatchInput.objects.filter(upstream__isnull=False).count() == 2, "both are raised")
        self.assertEqual(Batch.objects.count(), 3)
        self.fill("scions, mm", "1.6 1.6 2.0 2.0")
        self.fill("rootstocks, mm", "2.0 2.0 2.4 2.4")
        self.see("The scions that are left are too thin")
        self.assertEqual(self.axe(), [])

        # The day has come: two lots of small plants stand there, one of them short of what is grafted.
        advance(ctx, grafted)
        tomato = Crop.objects.get(slug="tomato", organisation=None)
        top, foot = (
            lots.receive(ctx, crop_id=tomato.pk, line_id=None, quantity=Quantity.of(many, Unit.PLANT), form="plug")
            for many in (batch.start + 60, batch.start + 20)
        )
        self.open(f"/sowing?card={batch.pk}")
        self.choose("Scions from", f"{top.code} plug, {top.balance:,.0f} plants")
        self.fill("Scions used, if more", str(batch.start + 40))
        self.press("Grafted", tag="button")
        self.see("From which lot are the rootstocks?")
        self.choose("Rootstocks from", f"{foot.code} plug, {foot.balance:,.0f} plants")
        self.press("Grafted", tag="button")
        self.until(lambda: Batch.objects.get(pk=batch.pk).state == "sown", "grafted")
        left = [int(Lot.objects.get(pk=one.pk).balance) for one in (top, foot)]
        self.assertEqual(left, [20, 20])

        # What it was made of stays on its card; the takes are counted, and the graft goes the way of every batch.
        self.open(f"/sowing?card={batch.pk}")
        self.see(f"{top.code} gave {batch.start + 40:,} plants")
        self.see(f"{foot.code} gave {batch.start:,} plants")
        holds.hold(ctx, foot.pk, reason="wilt", client_uuid=uuid.uuid4())
        self.open(f"/batches/{batch.pk}")
        self.see("wilt")
        self.assertEqual(self.complaints(), [])
