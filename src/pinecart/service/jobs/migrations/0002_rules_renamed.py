from django.db import migrations

RENAMED = {"newer_than": "changed_within", "older_than": "unchanged_for"}


def rename_rules(apps, schema_editor):
    jobs = apps.get_model("jobs", "JobRecord")
    for job in jobs.objects.all():
        legs = [{RENAMED.get(k, k): v for k, v in leg.items()} for leg in job.definition["legs"]]
        jobs.objects.filter(pk=job.pk).update(definition=job.definition | {"legs": legs})


class Migration(migrations.Migration):
    dependencies = [("jobs", "0001_initial")]

    operations = [migrations.RunPython(rename_rules, migrations.RunPython.noop)]
