import os

from django.apps import AppConfig


class JobsConfig(AppConfig):
    name = "aldrip.jobs"
    label = "jobs"

    def ready(self) -> None:
        from aldrip.base.circles import hunt_less

        if os.environ.get("ALDRIP_PROCESS") == "worker":
            hunt_less()
