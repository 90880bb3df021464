from django.apps import AppConfig


class SeedCropsConfig(AppConfig):
    name = "aldrip.seedcrops"
