from django.apps import AppConfig
from django.db.models.signals import post_migrate


class AccountsConfig(AppConfig):
    name = "aldrip.accounts"
    label = "accounts"

    def ready(self) -> None:
        from aldrip.accounts.journal import install

        post_migrate.connect(install, sender=self, dispatch_uid="aldrip.journal")
