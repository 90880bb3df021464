from django.apps import AppConfig


class BatchesConfig(AppConfig):
    name = "aldrip.batches"
    label = "batches"

    def ready(self) -> None:
        from aldrip.batches.standing import what_stands_keeps_its_unit
        from aldrip.places.services import bars

        if what_stands_keeps_its_unit not in bars:
            bars.append(what_stands_keeps_its_unit)
