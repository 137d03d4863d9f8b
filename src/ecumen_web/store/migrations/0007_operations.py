"""Remedies hold the operations of the plan format. What older rows hold are words and commands:
the commands stay to be copied.
"""

from django.db import migrations


def _forward(apps, schema_editor):
    records = apps.get_model("store", "FindingRecord")
    for row in records.objects.exclude(remedies=[]).iterator():
        row.remedies = [
            {
                "title": each["title"],
                "operations": [],
                "openings": [],
                "commands": each.get("shell", []),
            }
            for each in row.remedies
        ]
        row.save(update_fields=["remedies"])


class Migration(migrations.Migration):
    dependencies = [("store", "0006_revision")]
    operations = [migrations.RunPython(_forward, migrations.RunPython.noop)]
