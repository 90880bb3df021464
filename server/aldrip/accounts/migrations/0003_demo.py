"""The demo marks its own organisation; the ones that were loaded before are known by their closing audit event."""

from django.db import migrations, models


def mark(apps, schema_editor):
    loaded = apps.get_model("accounts", "AuditEvent").objects.filter(action="demo.loaded").values("organisation")
    apps.get_model("accounts", "Organisation").objects.filter(pk__in=loaded).update(demo=True)


class Migration(migrations.Migration):
    dependencies = [("accounts", "0002_seed")]
    operations = [
        migrations.AddField("organisation", "demo", models.BooleanField(default=False)),
        migrations.RunPython(mark, migrations.RunPython.noop),
    ]
