from django.apps import AppConfig


class DemoConfig(AppConfig):
    name = "aldrip.demo"
    label = "demo"
