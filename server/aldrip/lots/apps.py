from django.apps import AppConfig


class LotsConfig(AppConfig):
    name = "aldrip.lots"
    label = "lots"

    def ready(self) -> None:
        from aldrip.lots import deciding  # noqa: F401  (says what waits in its rooms)
