"""What stands in a place bars a change of it that would falsify what was and what is planned."""

from aldrip.accounts.context import Ctx
from aldrip.base.errors import refuse
from aldrip.batches.models import Occupancy
from aldrip.places.models import Place
from aldrip.places.services import PlaceSpec, unit_of


def what_stands_keeps_its_unit(ctx: Ctx, place: Place, spec: PlaceSpec) -> None:
    """A place in which something stands, stood or is to stand stays measured as it was. Raises Refused."""
    if unit_of(spec) == place.unit:
        return
    rows = Occupancy.objects.filter(place=place).select_related("stage__batch").order_by("-during")
    newest = rows.first()
    if newest is not None:
        raise refuse(
            "kind",
            "in_use",
            f"{place.name} is measured in {place.unit}, and {rows.count()} stages are planned or stood there in {place.unit}, the latest of "
            f"{newest.stage.batch.code}. Close it and add a new place instead.",
        )
