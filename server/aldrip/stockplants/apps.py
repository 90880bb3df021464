from django.apps import AppConfig


class StockPlantsConfig(AppConfig):
    name = "aldrip.stockplants"
    label = "stockplants"

    def ready(self) -> None:
        from aldrip.stockplants import deciding  # noqa: F401  (says what waits in its room)
