from django.apps import AppConfig


class JobsConfig(AppConfig):
    name = "aldrip.jobs"
    label = "jobs"
