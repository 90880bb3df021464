from django.apps import AppConfig


class DiaryConfig(AppConfig):
    name = "aldrip.diary"
    label = "diary"
