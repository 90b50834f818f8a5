from django.db import migrations


class Migration(migrations.Migration):
    """The apps `ledger` and `aside` answer for these tables from now on; nothing in them changes."""

    dependencies = [
        ('runs', '0011_waits_and_clearing'),
    ]

    operations = [
        migrations.SeparateDatabaseAndState(
            state_operations=[
                migrations.DeleteModel(name='LedgerRow'),
                migrations.DeleteModel(name='Scope'),
                migrations.DeleteModel(name='AsideRow'),
                migrations.DeleteModel(name='UploadRow'),
            ],
        ),
    ]
