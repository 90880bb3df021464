"""The sentence of a problem goes; its code and data stay."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("orders", "0003_exact"), ("deliveries", "0002_move")]
    operations = [migrations.RemoveField("orderline", "problem")]
