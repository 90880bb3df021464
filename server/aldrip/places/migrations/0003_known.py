"""Sites and places are known by a uuid outside the database."""

from django.db import migrations

from aldrip.accounts.migrations import _known


class Migration(migrations.Migration):
    dependencies = [("places", "0002_seed"), ("accounts", "0004_known")]
    operations = [migrations.AddField("site", "uuid", _known()), migrations.AddField("place", "uuid", _known())]
