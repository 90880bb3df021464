"""The subject's number goes; its uuid stays."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("accounts", "0004_known"), ("deliveries", "0002_move")]
    operations = [
        migrations.RemoveIndex("auditevent", "accounts_au_organis_8714a4_idx"),
        migrations.RemoveField("auditevent", "subject_id"),
        migrations.AddIndex("auditevent", models.Index(fields=["organisation", "subject", "-id"], name="accounts_au_organis_304619_idx")),
    ]
