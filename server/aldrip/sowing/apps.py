from django.apps import AppConfig


class SowingConfig(AppConfig):
    name = "aldrip.sowing"
    label = "sowing"

    def ready(self) -> None:
        from aldrip.diary.sheet import beside
        from aldrip.sowing.care import by_reading
        from aldrip.sowing.trays import on_the_sheet

        for also_on_it in (by_reading, on_the_sheet):
            if also_on_it not in beside:
                beside.append(also_on_it)
