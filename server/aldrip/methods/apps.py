from django.apps import AppConfig


class MethodsConfig(AppConfig):
    name = "aldrip.methods"
    label = "methods"
