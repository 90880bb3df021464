"""Rows are known by a uuid outside the database; audit events name their subject by it."""

from django.db import migrations, models

from aldrip.accounts.migrations import _known


class Migration(migrations.Migration):
    dependencies = [("accounts", "0003_demo")]
    operations = [
        migrations.AddField("organisation", "uuid", _known()),
        migrations.AddField("member", "uuid", _known()),
        migrations.AddField("auditevent", "uuid", _known()),
        migrations.AddField("auditevent", "subject", models.UUIDField(null=True)),
    ]
