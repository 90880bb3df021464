from django.apps import AppConfig


class BatchesConfig(AppConfig):
    name = "aldrip.batches"
    label = "batches"

    def ready(self) -> None:
        from aldrip.accounts import events, taking_back
        from aldrip.batches import (
            deciding,  # noqa: F401  (says what waits in its rooms)
            levelling,  # noqa: F401  (says what may be run as a job)
            long_work,  # noqa: F401
            weather,  # noqa: F401
        )
        from aldrip.batches.following import FOLLOWED, heard
        from aldrip.batches.harvest_holds import before_the_day, stood_at
        from aldrip.batches.holds import FOLLOWED as HELD_BY
        from aldrip.batches.holds import batches_held, follow_holds, lots_reached
        from aldrip.batches.standing import what_stands_keeps_its_unit
        from aldrip.batches.taken_back import RECKONED, reckon_anew, weigh_anew
        from aldrip.diary import applications, sheet
        from aldrip.lots import holds, taking
        from aldrip.places.services import bars

        events.subscribe(FOLLOWED, heard)
        events.subscribe(HELD_BY, follow_holds)
        if lots_reached not in holds.reaches:
            holds.reaches.append(lots_reached)
        if batches_held not in sheet.holders:
            sheet.holders.append(batches_held)
        if stood_at not in applications.standing:
            applications.standing.append(stood_at)
        if before_the_day not in taking.bars:
            taking.bars.append(before_the_day)
        taking_back.DERIVED.update(RECKONED)
        for follower in (weigh_anew, reckon_anew):
            if follower not in taking_back.followers:
                taking_back.followers.append(follower)
        if what_stands_keeps_its_unit not in bars:
            bars.append(what_stands_keeps_its_unit)
