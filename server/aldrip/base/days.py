"""Days as people write them, with their year."""

import re
from contextlib import suppress
from datetime import date

from aldrip_core.refusal import refuse
from aldrip_core.seasons import MONTHS

WRITTEN = re.compile(r"(?:[A-Za-z]{3,9},? )?(\d{1,2})[ .]+(?:(\d{1,2})\.\s*|([A-Za-z]{3})[a-z]*\.?\s+)(\d{4})")


def read_day(text: str, field: str) -> date:
    """“2027-07-06”, “6 Jul 2027”, “6.7.2027”. Raises Refused at `field`, also where it could be two days."""
    text = text.strip()
    with suppress(ValueError):
        return date.fromisoformat(text)
    found = WRITTEN.fullmatch(text)
    if found:
        with suppress(ValueError):
            return date(int(found[4]), int(found[2] or MONTHS.index(found[3].lower()) + 1), int(found[1]))
    both = " It could be two days." if re.fullmatch(r"\d{1,2}/\d{1,2}/\d{2,4}", text) else ""
    raise refuse(field, "unreadable", f"“{text}” is no day.{both} Write it like 2027-07-06 or 6 Jul 2027.")
