"""Promises are exact and have a unit; what stands against them is a code with its data."""

from django.db import migrations, models

from aldrip.accounts.migrations import _known


class Migration(migrations.Migration):
    dependencies = [("orders", "0002_seed"), ("accounts", "0004_known")]
    operations = [
        migrations.AddField("order", "uuid", _known()),
        migrations.AddField("orderline", "uuid", _known()),
        migrations.AddField("orderline", "problems", models.JSONField(default=list)),
        migrations.AlterField("orderline", "quantity", models.DecimalField(decimal_places=4, max_digits=16)),
        migrations.AlterField("orderline", "delivered", models.DecimalField(decimal_places=4, default=0, max_digits=16)),
    ]
