"""What is drawn on the ground of a site moves with the site, when its place was typed wrong."""

import math

from aldrip.places.ground import FAR_DEGREES, centre_of, moved_with
from aldrip.places.models import Site
from aldrip.seedcrops.models import Inspection, Neighbour, SeedBlock

Place = tuple[float, float]  # longitude, latitude


def move_drawn(site: Site, was: Place, now: Place) -> None:
    """Blocks with what is left of them, the areas of their counts, and neighbours that were seen round the old place."""
    for block in SeedBlock.objects.filter(field__site=site):
        block.outline = moved_with(block.outline, was, now)
        block.strip_left = moved_with(block.strip_left, was, now) if block.strip_left else None
        block.save(update_fields=["outline", "strip_left"])
    for visit in Inspection.objects.filter(block__field__site=site).exclude(points=[]):
        visit.points = moved_with(visit.points, was, now)
        visit.save(update_fields=["points"])
    others = [centre_of(one) for one in Site.objects.filter(organisation=site.organisation_id).exclude(pk=site.pk)]
    for row in Neighbour.objects.filter(organisation=site.organisation_id):
        first = row.outline["coordinates"][0][0]
        own, nearest = math.dist(first, was), min((math.dist(first, one) for one in others), default=math.inf)
        if own <= FAR_DEGREES and own <= nearest:  # what was seen round another site stays there
            row.outline = moved_with(row.outline, was, now)
            row.save(update_fields=["outline"])
