from django.apps import AppConfig


class SeasonConfig(AppConfig):
    name = "aldrip.season"
    label = "season"
