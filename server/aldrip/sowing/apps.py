from django.apps import AppConfig


class SowingConfig(AppConfig):
    name = "aldrip.sowing"
    label = "sowing"
