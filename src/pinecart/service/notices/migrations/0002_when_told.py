from django.db import migrations, models

EMPTY = models.CharField(max_length=60, blank=True, default="")


class Migration(migrations.Migration):
    dependencies = [("notices", "0001_initial")]
    operations = [
        migrations.AddField("noticerule", "quiet", EMPTY),
        migrations.AddField("noticerule", "once_at", EMPTY.clone()),
    ]
