from django.apps import AppConfig


class PlacesConfig(AppConfig):
    name = "aldrip.places"
    label = "places"
