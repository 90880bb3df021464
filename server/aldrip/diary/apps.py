from django.apps import AppConfig


class DiaryConfig(AppConfig):
    name = "aldrip.diary"
    label = "diary"

    def ready(self) -> None:
        from aldrip.diary import (
            applications,
            clocks,
            deciding,  # noqa: F401  (says what waits in its rooms)
        )

        if applications.also_running not in clocks.others:
            clocks.others.append(applications.also_running)
