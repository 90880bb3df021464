"""Stages are known by keys; needs and claims are exact; inputs are planned or taken."""

from django.db import migrations, models

from aldrip.accounts.migrations import _known


class Migration(migrations.Migration):
    dependencies = [("batches", "0002_yield_of_several"), ("accounts", "0004_known"), ("orders", "0003_exact")]
    operations = [
        migrations.AddField("batch", "uuid", _known()),
        migrations.AddField("batch", "problems", models.JSONField(default=list)),
        migrations.AlterField("batch", "needed", models.DecimalField(decimal_places=4, max_digits=16)),
        migrations.AddField("batchstage", "key", models.CharField(max_length=40, default=""), preserve_default=False),
        migrations.AddField("batchstage", "multiply_sd", models.FloatField(default=0)),
        migrations.AddField("batchstage", "counted_of", models.PositiveIntegerField(null=True)),
        migrations.AddField("batchinput", "part", models.CharField(default="seed", max_length=12)),
        migrations.AddField("batchinput", "taken_on", models.DateField(null=True)),
        migrations.AlterField("allocation", "quantity", models.DecimalField(decimal_places=4, max_digits=16)),
    ]
