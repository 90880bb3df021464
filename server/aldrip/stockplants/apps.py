from django.apps import AppConfig


class StockPlantsConfig(AppConfig):
    name = "aldrip.stockplants"
    label = "stockplants"

    def ready(self) -> None:
        from aldrip.orders.api import also_wrong
        from aldrip.stockplants import deciding  # noqa: F401  (says what waits in its room)
        from aldrip.stockplants.outlook import short_batches

        if short_batches not in also_wrong:
            also_wrong.append(short_batches)
