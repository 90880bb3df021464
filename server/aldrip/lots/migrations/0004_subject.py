"""The subjects' numbers go; their uuids stay."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("lots", "0003_known"), ("deliveries", "0002_move")]
    operations = [
        migrations.RemoveIndex("intake", "lots_intake_organis_ea027c_idx"),
        migrations.RemoveField("movement", "subject_id"),
        migrations.RemoveField("intake", "subject_id"),
        migrations.AlterField("intake", "subject", models.UUIDField()),
        migrations.AddIndex("intake", models.Index(fields=["organisation", "subject"], name="lots_intake_organis_8f4d80_idx")),
    ]
