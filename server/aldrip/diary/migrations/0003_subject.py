"""The old columns go: numbers of subjects and orders of stages."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("diary", "0002_known"), ("deliveries", "0002_move")]
    operations = [
        migrations.RemoveIndex("task", "diary_task_organis_99c7aa_idx"),
        migrations.RemoveIndex("count", "diary_count_organis_e1461e_idx"),
        migrations.RemoveField("task", "subject_id"),
        migrations.RemoveField("task", "stage_order"),
        migrations.RemoveField("count", "subject_id"),
        migrations.RemoveField("count", "stage_order"),
        migrations.AlterField("count", "subject", models.UUIDField()),
        migrations.AddIndex("count", models.Index(fields=["organisation", "subject", "id"], name="diary_count_organis_b2a538_idx")),
        migrations.AddConstraint(
            "task",
            models.UniqueConstraint(condition=models.Q(("key", ""), _negated=True), fields=("subject", "stage", "key"), name="planned_task_once"),
        ),
    ]
