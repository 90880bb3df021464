"""Blocks, neighbours and visits are known by a uuid outside the database."""

from django.db import migrations

from aldrip.accounts.migrations import _known


class Migration(migrations.Migration):
    dependencies = [("seedcrops", "0002_remedy_gap"), ("accounts", "0004_known")]
    operations = [migrations.AddField(name, "uuid", _known()) for name in ("seedblock", "neighbour", "inspection")]
