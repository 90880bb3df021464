"""Library rows have editions; stages have keys, form a tree and say by traits what they do."""

import django.db.models.deletion
import django.utils.timezone
import uuid
from django.conf import settings
from django.db import migrations, models

from aldrip.accounts.migrations import _known

SHARED = ("crop", "line", "container", "mix", "classscheme", "isolationrule", "remedy", "standard", "method")
TRAITS = {
    "sow": ["starts"], "germinate": ["emerges"], "grade": ["grades", "yields"], "dispatch": ["leaves"], "flower": ["flowers"],
    "harvest": ["loads", "yields"], "dry": ["dries"], "clean": ["cleans", "yields"], "test": ["tests"],
}


def keys(apps, schema_editor):
    Stage = apps.get_model("methods", "MethodStage")
    before = {}
    for stage in Stage.objects.select_related("method").order_by("method", "order"):
        stage.key = stage.kind
        stage.after = before.get(stage.method_id, "")
        stage.traits = TRAITS.get(stage.kind, [])
        if stage.kind == "sow":
            stage.takes = "seed" if stage.method.by_seed or stage.method.way != "plants" else "cutting"
        before[stage.method_id] = stage.key
        stage.save()


class Migration(migrations.Migration):
    dependencies = [
        ("methods", "0002_seed"),
        ("accounts", "0004_known"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]
    operations = [
        migrations.RenameField("standard", "edition", "issue"),
        *(migrations.AddField(name, "uuid", _known()) for name in SHARED),
        *(migrations.AddField(name, "edition", models.PositiveIntegerField(default=1)) for name in SHARED),
        *(migrations.AddField(name, "retired", models.BooleanField(default=False)) for name in SHARED),
        migrations.CreateModel(
            name="Edition",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("client_uuid", models.UUIDField(default=uuid.uuid4)),
                ("happened_at", models.DateTimeField()),
                ("recorded_at", models.DateTimeField(default=django.utils.timezone.now, editable=False)),
                ("reason", models.CharField(blank=True, max_length=300)),
                ("kind", models.CharField(max_length=20)),
                ("slug", models.SlugField(max_length=80)),
                ("number", models.PositiveIntegerField()),
                ("values", models.JSONField()),
                ("by", models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, related_name="+", to=settings.AUTH_USER_MODEL)),
                ("organisation", models.ForeignKey(null=True, on_delete=django.db.models.deletion.CASCADE, related_name="+", to="accounts.organisation")),
            ],
        ),
        migrations.AddConstraint(
            "edition",
            models.UniqueConstraint(fields=("organisation", "kind", "slug", "number"), name="edition_once", nulls_distinct=False),
        ),
        migrations.AddField("methodstage", "key", models.CharField(max_length=40, default=""), preserve_default=False),
        migrations.AddField("methodstage", "after", models.CharField(blank=True, max_length=40, default=""), preserve_default=False),
        migrations.AddField("methodstage", "follows", models.CharField(blank=True, max_length=40, default=""), preserve_default=False),
        migrations.AddField("methodstage", "share", models.FloatField(default=1.0)),
        migrations.AddField("methodstage", "traits", models.JSONField(default=list)),
        migrations.AddField("methodstage", "takes", models.CharField(blank=True, max_length=12, default=""), preserve_default=False),
        migrations.AddField("methodstage", "product", models.CharField(blank=True, max_length=40, default=""), preserve_default=False),
        migrations.AddField("methodstage", "rounds", models.PositiveSmallIntegerField(default=1)),
        migrations.AddField("methodstage", "round_days", models.FloatField(null=True)),
        migrations.AddField("methodstage", "round_shares", models.JSONField(default=list)),
        migrations.AddField("methodstage", "multiply_sd", models.FloatField(default=0.0)),
        migrations.AddField(
            "methodstage", "container",
            models.ForeignKey(null=True, on_delete=django.db.models.deletion.PROTECT, related_name="+", to="methods.container"),
        ),
        migrations.RunPython(keys, migrations.RunPython.noop),
        migrations.AddConstraint("methodstage", models.UniqueConstraint(fields=("method", "key"), name="method_stage_key_once")),
        migrations.AddConstraint(
            "methodstage", models.CheckConstraint(condition=models.Q(("share__gt", 0), ("share__lte", 1)), name="method_stage_share")
        ),
    ]
