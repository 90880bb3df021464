from django.apps import AppConfig


class BaseConfig(AppConfig):
    name = "aldrip.base"
    label = "base"
