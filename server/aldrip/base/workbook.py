"""Tables as a workbook: days are days there, and quantities numbers."""

import io
from collections.abc import Iterable, Sequence
from typing import Any

KIND = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"


def workbook(title: str, rows: Iterable[Sequence[Any]], *, widths: Sequence[float], freeze: str = "A2") -> bytes:
    """One sheet of rows, the headings first. widths: of the first columns, in letters. freeze: the first cell that scrolls."""
    from openpyxl import Workbook  # only who asks for one waits for it
    from openpyxl.utils import get_column_letter

    book = Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.title = title
    for row in rows:
        sheet.append(list(row))
    sheet.freeze_panes = freeze
    for number, width in enumerate(widths, start=1):
        sheet.column_dimensions[get_column_letter(number)].width = width
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()
