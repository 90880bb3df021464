"""Lots are known by a uuid; movements and intakes name their subject by it."""

from django.db import migrations, models

from aldrip.accounts.migrations import _known


class Migration(migrations.Migration):
    dependencies = [("lots", "0002_seed"), ("accounts", "0004_known")]
    operations = [
        migrations.AddField("lot", "uuid", _known()),
        migrations.AddField("seal", "uuid", _known()),
        migrations.AddField("movement", "subject", models.UUIDField(null=True)),
        migrations.AddField("intake", "subject", models.UUIDField(null=True)),
    ]
