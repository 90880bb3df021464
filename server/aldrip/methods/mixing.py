"""What is mixed into a medium beside its parts."""

from collections.abc import Mapping
from typing import Any

from aldrip.base.errors import refuse
from aldrip_core.dressing import MOST_MIXED_IN


def check_mix(values: Mapping[str, Any]) -> None:
    """Refuse an amendment without a product, or of so much that no medium holds."""
    for n, one in enumerate(values["amendments"]):
        much = one.get("kg_per_m3")
        if not isinstance(much, int | float) or isinstance(much, bool) or not 0 < much <= MOST_MIXED_IN:
            told = f"Kilograms in a cubic metre: above 0, up to {MOST_MIXED_IN:g}."
            raise refuse(f"amendments.{n}.kg_per_m3", "out_of_range", told)
        if not one.get("input"):
            raise refuse(f"amendments.{n}.input", "missing", "Which product is mixed in? Write it under Inputs first.")
