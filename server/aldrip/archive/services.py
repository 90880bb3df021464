"""Out and in, as a manager or a command asks for it."""

import io
from typing import BinaryIO

from django.db import connection, transaction

from aldrip.accounts.context import Ctx
from aldrip.accounts.models import Organisation
from aldrip.archive.reading import BroughtIn, read_archive
from aldrip.archive.writing import write_archive
from aldrip.base.errors import refuse

FIRST_RUN = 7_305_002  # of advisory locks: one first run at a time


def archive_of(ctx: Ctx) -> bytes:
    """Everything of the house as a zip. Call inside one snapshot."""
    packed = io.BytesIO()
    write_archive(ctx.organisation, packed)
    return packed.getvalue()


def begin_with(file: BinaryIO) -> BroughtIn:
    """First run from an archive. Raises Refused once a nursery is there."""
    with transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute("select pg_advisory_xact_lock(%s)", [FIRST_RUN])
        if Organisation.objects.exists():
            raise refuse(
                "file",
                "not_empty",
                "A nursery is here already. Sign in; a manager can bring another one in under The house.",
            )
        return read_archive(file)
