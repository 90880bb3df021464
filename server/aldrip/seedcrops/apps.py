from django.apps import AppConfig


class SeedCropsConfig(AppConfig):
    name = "aldrip.seedcrops"

    def ready(self) -> None:
        from aldrip.accounts import events
        from aldrip.batches.editing import bars
        from aldrip.lots import releasing
        from aldrip.places.services import movers
        from aldrip.seedcrops import deciding  # noqa: F401  (says what waits in its rooms)
        from aldrip.seedcrops.blocks import block_leads
        from aldrip.seedcrops.following import FOLLOWED, WEIGHED, heard, weighed
        from aldrip.seedcrops.harvesting import field_wanting
        from aldrip.seedcrops.moving import move_drawn

        events.subscribe(FOLLOWED, heard)
        events.subscribe(WEIGHED, weighed)
        if field_wanting not in releasing.also_wanting:
            releasing.also_wanting.append(field_wanting)

        if move_drawn not in movers:
            movers.append(move_drawn)
        if block_leads not in bars:
            bars.append(block_leads)
