from django.apps import AppConfig


class SeedCropsConfig(AppConfig):
    name = "aldrip.seedcrops"

    def ready(self) -> None:
        from aldrip.accounts import events
        from aldrip.batches.editing import bars
        from aldrip.seedcrops import deciding  # noqa: F401  (says what waits in its rooms)
        from aldrip.seedcrops.blocks import block_leads
        from aldrip.seedcrops.following import FOLLOWED, heard

        events.subscribe(FOLLOWED, heard)

        if block_leads not in bars:
            bars.append(block_leads)
