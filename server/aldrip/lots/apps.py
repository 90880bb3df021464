from django.apps import AppConfig


class LotsConfig(AppConfig):
    name = "aldrip.lots"
    label = "lots"

    def ready(self) -> None:
        from aldrip.diary import clocks
        from aldrip.lots import (
            deciding,  # noqa: F401  (says what waits in its rooms)
            media,
            taking,
            treating,
        )

        if treating.ended not in clocks.enders:
            clocks.enders.append(treating.ended)
        for other in (treating.also_running, media.also_running):
            if other not in clocks.others:
                clocks.others.append(other)
        if treating.may_leave not in taking.bars:
            taking.bars.append(treating.may_leave)
