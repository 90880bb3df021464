from django.apps import AppConfig


class AccountsConfig(AppConfig):
    name = "aldrip.accounts"
    label = "accounts"
