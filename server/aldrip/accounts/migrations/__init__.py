"""How an early migration writes the uuid by which a row is known."""

import uuid

from django.contrib.postgres.functions import RandomUUID
from django.db import models


def _known() -> "models.UUIDField[uuid.UUID, uuid.UUID]":
    return models.UUIDField(db_default=RandomUUID(), default=uuid.uuid4, editable=False, unique=True)
