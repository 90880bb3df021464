"""What a page shows was all true at one moment, whatever others do while it is being read."""

import threading
from collections.abc import Callable
from typing import Any
from unittest import mock

from django.db import connections
from django.db.models import query
from django.test import Client, TransactionTestCase

from aldrip.accounts.context import Ctx
from aldrip.methods.library import load_library
from aldrip.places.models import Place
from aldrip.seedcrops import blocks
from aldrip.seedcrops.models import SeedBlock
from tests.server.house import advance, make_house
from tests.server.seed_house import SPRING, SeedCase, make_seed_house


def elsewhere(act: Callable[[], Any]) -> None:
    """Do something on another connection, and wait until it is done."""

    def run() -> None:
        try:
            act()
        finally:
            connections.close_all()

    thread = threading.Thread(target=run)
    thread.start()
    thread.join()


class OneMoment(TransactionTestCase):
    def test_a_layout_taken_up_while_the_season_line_reads_its_lines_is_there_whole(self) -> None:
        """The block was read, its lines were not: `min()` of nothing answered 500 once in forty."""
        load_library()
        ctx: Ctx = make_house()
        advance(ctx, SPRING)
        make_seed_house(ctx)
        case = SeedCase()
        case.ctx = ctx
        case.client = Client()
        assert ctx.user is not None
        case.client.force_login(ctx.user)
        _, batch = case.order()
        field = Place.objects.get(name="Long field")
        block = case.post("/seed-blocks", {"batch_id": batch.pk, "field_id": field.pk, "bearing_deg": 0})["block_id"]
        prefetch, gone = query.prefetch_related_objects, []

        def between(instances: Any, *lookups: Any) -> None:
            if not gone and instances and isinstance(instances[0], SeedBlock):
                gone.append(True)
                elsewhere(lambda: blocks.take_up(ctx, block, version=SeedBlock.objects.get(pk=block).version))
            prefetch(instances, *lookups)

        with mock.patch.object(query, "prefetch_related_objects", between):
            told = case.get("/season-line")
        self.assertTrue(gone)
        self.assertFalse(SeedBlock.objects.exists())
        self.assertNotIn(f"lay out {batch.code}", [d["title"] for d in told["decisions"]])
        self.assertIn(f"lay out {batch.code}", [d["title"] for d in case.get("/season-line")["decisions"]])
