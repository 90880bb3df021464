"""Tables that people bring: CSV, XLSX or pasted text, into rows of plain strings with their place."""

import csv
import io
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any
from zipfile import BadZipFile, ZipFile

from aldrip.base.errors import Refused, refuse

MOST_ROWS = 5000
MOST_COLUMNS = 60
MOST_BYTES = 5 * 1024 * 1024
MOST_UNPACKED = 60 * 1024 * 1024


@dataclass(frozen=True)
class Table:
    """Headings and rows as text. `lines` are the row numbers as the person sees them."""

    headings: list[str]
    rows: list[list[str]]
    lines: list[int]


def read_file(name: str, content: bytes) -> Table:
    """Read a CSV or XLSX file. Raises Refused with what is wrong and what to do."""
    if len(content) > MOST_BYTES:
        raise refuse(
            "file",
            "too_large",
            f"The file has {len(content) / 1e6:.1f} MB; at most {MOST_BYTES / 1e6:.0f} MB are read.",
        )
    if content[:2] == b"PK" or name.lower().endswith((".xlsx", ".xlsm")):
        return _read_xlsx(content)
    for encoding in ("utf-8-sig", "cp1252"):
        try:
            return read_text(content.decode(encoding))
        except UnicodeDecodeError:
            continue
    raise refuse("file", "unreadable", "This is neither text nor a spreadsheet. Save it as CSV or XLSX and try again.")


def read_text(text: str) -> Table:
    """Read CSV or text pasted from a spreadsheet; the separator is found in the first line."""
    text = text.replace("\x00", "").replace("\r\n", "\n").replace("\r", "\n").lstrip("\ufeff")
    first = next((line for line in text.split("\n") if line.strip()), "")
    separator = max("\t;,|", key=first.count)
    try:
        raw = list(csv.reader(io.StringIO(text), delimiter=separator))
    except csv.Error as error:
        raise refuse("file", "unreadable", f"The table cannot be read: {error}.") from None
    return _table([(number, row) for number, row in enumerate(raw, start=1)])


def _read_xlsx(content: bytes) -> Table:
    from openpyxl import load_workbook  # only who brings a workbook waits for it
    from openpyxl.utils.exceptions import InvalidFileException

    try:
        unpacked = sum(part.file_size for part in ZipFile(io.BytesIO(content)).infolist())
        if unpacked > MOST_UNPACKED:
            raise refuse(
                "file",
                "too_large",
                f"Unpacked it has {unpacked / 1e6:,.0f} MB; at most {MOST_UNPACKED / 1e6:.0f} MB are read.",
            )
        book = load_workbook(io.BytesIO(content), read_only=True, data_only=True)
    except Refused:
        raise
    except (BadZipFile, InvalidFileException, KeyError, ValueError, OSError):
        raise refuse(
            "file", "unreadable", "The spreadsheet cannot be opened. Save it again as XLSX, or as CSV."
        ) from None
    sheet = book.worksheets[0]
    rows = []
    for number, row in enumerate(sheet.iter_rows(values_only=True, max_col=MOST_COLUMNS), start=1):
        if number > MOST_ROWS + 50:
            break
        rows.append((number, [_text(cell) for cell in row]))
    book.close()
    return _table(rows)


def _text(cell: Any) -> str:
    if cell is None:
        return ""
    if isinstance(cell, datetime | date):
        return cell.strftime("%Y-%m-%d")
    if isinstance(cell, float) and cell.is_integer():
        return str(int(cell))
    return str(cell).strip()


def _table(raw: list[tuple[int, list[str]]]) -> Table:
    filled = [(number, [cell.strip() for cell in row]) for number, row in raw if any(cell.strip() for cell in row)]
    if not filled:
        raise refuse("file", "empty", "There is nothing in it. The first row holds the headings, the rows follow.")
    headings = filled[0][1]
    while headings and not headings[-1]:
        headings.pop()
    body = filled[1:]
    if not body:
        raise refuse("file", "empty", "There are headings but nothing below them.")
    if len(body) > MOST_ROWS:
        raise refuse(
            "file", "too_large", f"{len(body):,} rows; at most {MOST_ROWS:,} are read at once. Split the file."
        )
    width = len(headings)
    rows = [(row + [""] * width)[:width] for _, row in body]
    return Table(headings, rows, [number for number, _ in body])


def neutral(value: Any) -> Any:
    """A cell for CSV that no spreadsheet takes for a formula."""
    if isinstance(value, str) and value[:1] in ("=", "+", "-", "@", "\t", "\r"):
        return "'" + value
    return value
