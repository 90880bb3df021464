"""What answers say of a state is what the models keep."""

from typing import get_args

from django.test import SimpleTestCase

from aldrip.base import schemas
from aldrip.batches.models import Batch
from aldrip.diary.models import Task
from aldrip.lots.models import Status
from aldrip.orders.models import OrderLine
from aldrip.seedcrops.models import Inspection


class States(SimpleTestCase):
    def test_the_words_of_answers_are_those_of_the_models(self) -> None:
        for told, kept in (
            (schemas.BatchState, Batch.State),
            (schemas.LineState, OrderLine.State),
            (schemas.TaskState, Task.State),
            (schemas.VisitState, Inspection.State),
        ):
            self.assertEqual(list(get_args(told)), kept.values)
        self.assertEqual(sorted(get_args(schemas.LotStatus)), sorted({"", *Status.values}))
