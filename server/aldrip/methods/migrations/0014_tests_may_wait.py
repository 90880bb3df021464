"""Seed may lie tested until it is wanted, in methods that houses copied before a stage could say so as well."""

from typing import Any

from django.db import migrations


def may_wait(apps: Any, schema_editor: Any) -> None:
    stages = apps.get_model("methods", "MethodStage")
    rows = [row for row in stages.objects.filter(kind="test") if "waits" not in row.traits]
    for row in rows:
        row.traits = [*row.traits, "waits"]
    stages.objects.bulk_update(rows, ["traits"], batch_size=500)


class Migration(migrations.Migration):
    dependencies = [("methods", "0013_earliness")]
    operations = [migrations.RunPython(may_wait, migrations.RunPython.noop)]
