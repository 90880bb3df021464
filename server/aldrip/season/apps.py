from django.apps import AppConfig


class SeasonConfig(AppConfig):
    name = "aldrip.season"
    label = "season"

    def ready(self) -> None:
        from aldrip.season import deciding  # noqa: F401  (says what waits in the house)
