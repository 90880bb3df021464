"""A stage's key is its own within a batch."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("batches", "0003_tree"), ("deliveries", "0002_move")]
    operations = [
        migrations.AddConstraint("batchstage", models.UniqueConstraint(fields=("batch", "key"), name="batch_stage_key_once"))
    ]
