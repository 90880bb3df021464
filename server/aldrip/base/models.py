"""Technical shapes that every room uses: event rows, and rows with a version."""

import uuid

from django.contrib.postgres.functions import RandomUUID
from django.db import models
from django.utils import timezone


class Known(models.Model):
    """A row that is known outside the database too: by its uuid, never by its number."""

    uuid = models.UUIDField(default=uuid.uuid4, db_default=RandomUUID(), unique=True, editable=False)

    class Meta:
        abstract = True


class Event(models.Model):
    """A thing that happened: never updated, never deleted; a correction names what it replaces.

    `happened_at` runs on the organisation's clock, `recorded_at` on the database's.
    """

    client_uuid = models.UUIDField(default=uuid.uuid4)
    happened_at = models.DateTimeField()
    recorded_at = models.DateTimeField(default=timezone.now, editable=False)
    reason = models.CharField(max_length=300, blank=True)

    class Meta:
        abstract = True

    def save(self, *args: object, **kwargs: object) -> None:
        if not self._state.adding:
            raise RuntimeError("An event row is never changed; record one that replaces it.")
        super().save(*args, **kwargs)  # type: ignore[arg-type]
