from django.db import migrations, models


def fill(apps, schema_editor):
    """Each use has the labels of its job, as far as there is one."""
    uses, jobs = apps.get_model("stores", "StoreUse"), apps.get_model("jobs", "JobRecord")
    for job in jobs.objects.all().iterator():
        uses.objects.filter(job=job.name).update(labels=job.definition.get("labels", []))


class Migration(migrations.Migration):
    dependencies = [("stores", "0004_labels"), ("jobs", "0002_rules_renamed")]

    operations = [
        migrations.AddField("storeuse", "labels", models.JSONField(default=list)),
        migrations.RunPython(fill, migrations.RunPython.noop),
    ]
