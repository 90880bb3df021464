from django.apps import AppConfig


class LotsConfig(AppConfig):
    name = "aldrip.lots"
    label = "lots"
