"""Out and in, as a manager or a command asks for it."""

import io
from typing import BinaryIO

from django.db import transaction

from aldrip.accounts.context import Ctx
from aldrip.accounts.people import may_begin
from aldrip.archive.reading import BroughtIn, read_archive
from aldrip.archive.writing import write_archive


def archive_of(ctx: Ctx) -> bytes:
    """Everything of the house as a zip. Call inside one snapshot."""
    packed = io.BytesIO()
    write_archive(ctx.organisation, packed)
    return packed.getvalue()


def begin_with(file: BinaryIO, word: str = "") -> BroughtIn:
    """First run from an archive. Raises Forbidden once a nursery is there."""
    with transaction.atomic():
        may_begin(word)
        return read_archive(file)
