"""Work and counts name their subject by its uuid, and the stage by its key; the old columns go once their data has moved."""

from django.db import migrations, models

from aldrip.accounts.migrations import _known


class Migration(migrations.Migration):
    dependencies = [("diary", "0001_initial"), ("accounts", "0004_known")]
    operations = [
        migrations.AddField("task", "uuid", _known()),
        migrations.AddField("task", "subject", models.UUIDField(null=True)),
        migrations.RenameField("task", "stage", "stage_order"),
        migrations.AddField("task", "stage", models.CharField(blank=True, max_length=40, default=""), preserve_default=False),
        migrations.AddField("task", "key", models.CharField(blank=True, max_length=60, default=""), preserve_default=False),
        migrations.AddField("task", "at", models.CharField(blank=True, max_length=10, default=""), preserve_default=False),
        migrations.AddField("task", "minutes_spent", models.PositiveIntegerField(null=True)),
        migrations.AddField("task", "quantity_done", models.FloatField(null=True)),
        migrations.AddField("count", "subject", models.UUIDField(null=True)),
        migrations.RenameField("count", "stage", "stage_order"),
        migrations.AddField("count", "stage", models.CharField(blank=True, max_length=40, default=""), preserve_default=False),
    ]
