from django.apps import AppConfig


class BatchesConfig(AppConfig):
    name = "aldrip.batches"
    label = "batches"
