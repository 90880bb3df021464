"""Batches say as which class they are grown; those of before take it from their field."""

from typing import Any

from django.db import migrations


def from_the_field(apps: Any, editor: Any) -> None:
    batches = apps.get_model("batches", "Batch")
    for block in apps.get_model("seedcrops", "SeedBlock").objects.all().iterator():
        batches.objects.filter(pk=block.batch_id).update(seed_class=block.seed_class)


class Migration(migrations.Migration):
    dependencies = [("batches", "0006_class_and_bars"), ("seedcrops", "0003_known")]
    operations = [migrations.RunPython(from_the_field, migrations.RunPython.noop)]
