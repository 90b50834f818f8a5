from django.db import migrations, models


def keep_what_is(apps, schema_editor):
    """The definition of each job becomes the first version that is known."""
    jobs, versions = apps.get_model("jobs", "JobRecord"), apps.get_model("jobs", "JobVersion")
    for job in jobs.objects.all():
        versions.objects.create(
            job=job.name,
            number=job.version,
            definition=job.definition,
            saved_at=job.saved_at,
            saved_by=job.definition.get("owner", ""),
        )


class Migration(migrations.Migration):
    dependencies = [("jobs", "0002_rules_renamed")]
    operations = [
        migrations.CreateModel(
            name="JobVersion",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("job", models.CharField(max_length=63)),
                ("number", models.IntegerField()),
                ("definition", models.JSONField()),
                ("saved_at", models.DateTimeField()),
                ("saved_by", models.CharField(max_length=150)),
            ],
            options={"unique_together": {("job", "number")}},
        ),
        migrations.AddField(
            "jobrecord", "switched_at", models.DateTimeField(null=True)
        ),
        migrations.AddField(
            "jobrecord", "switched_by", models.CharField(blank=True, default="", max_length=150)
        ),
        migrations.AddField(
            "jobrecord", "switched_why", models.TextField(blank=True, default="")
        ),
        migrations.RunPython(keep_what_is, migrations.RunPython.noop),
    ]
