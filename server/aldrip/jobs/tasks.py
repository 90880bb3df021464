"""What the queue runs: one task for every job, and a look every minute for those whose worker died."""

from django.db import close_old_connections
from procrastinate.contrib.django import app

from aldrip.accounts import housekeeping
from aldrip.jobs import services


@app.task(name="aldrip.run_job", queue="aldrip")
def run_job(job_id: int) -> None:
    close_old_connections()
    try:
        services.run(job_id)
    finally:
        close_old_connections()


@app.periodic(cron="* * * * *")
@app.task(name="aldrip.take_up_again", queue="aldrip", queueing_lock="take_up_again")
def take_up_again(timestamp: int) -> None:
    close_old_connections()
    services.take_up_again()


@app.periodic(cron="17 * * * *")
@app.task(name="aldrip.sweep", queue="aldrip", queueing_lock="sweep")
def sweep(timestamp: int) -> None:
    close_old_connections()
    housekeeping.sweep()
