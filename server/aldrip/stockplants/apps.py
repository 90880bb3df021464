from django.apps import AppConfig


class StockPlantsConfig(AppConfig):
    name = "aldrip.stockplants"
    label = "stockplants"

    def ready(self) -> None:
        from aldrip.batches.buying import also, own
        from aldrip.diary.sheet import beside
        from aldrip.orders.api import also_wrong
        from aldrip.stockplants import deciding  # noqa: F401  (says what waits in its room)
        from aldrip.stockplants.cutting_day import on_the_sheet
        from aldrip.stockplants.outlook import given_to_batches, short_batches
        from aldrip.stockplants.planned_mothers import to_buy
        from aldrip.stockplants.traps import to_read
        from aldrip.stockplants.tuber_store import on_the_sheet as turns_on_the_sheet

        if given_to_batches not in own:
            own.append(given_to_batches)
        if to_buy not in also:
            also.append(to_buy)
        for also_on_it in (on_the_sheet, turns_on_the_sheet, to_read):
            if also_on_it not in beside:
                beside.append(also_on_it)

        if short_batches not in also_wrong:
            also_wrong.append(short_batches)
