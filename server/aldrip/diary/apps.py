from django.apps import AppConfig


class DiaryConfig(AppConfig):
    name = "aldrip.diary"
    label = "diary"

    def ready(self) -> None:
        from aldrip.diary import deciding  # noqa: F401  (says what waits in its rooms)
