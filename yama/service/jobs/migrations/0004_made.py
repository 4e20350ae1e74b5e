"""What came of a job that is no holding; keys of outputs; a finding's button is its fix."""

from importlib import import_module

from django.db import migrations, models

_rename = import_module("yama.service.holdings.migrations.0009_outputs_tables_previews").rename


def _each(apps, old, new):
    for one in apps.get_model("jobs", "Job").objects.all().iterator():
        if _rename(one.findings, old, new):
            one.save(update_fields=["findings"])


def forward(apps, _editor):
    _each(apps, "mend", "fix")


def backward(apps, _editor):
    _each(apps, "fix", "mend")


class Migration(migrations.Migration):
    dependencies = [("jobs", "0003_job_figures"), ("holdings", "0009_outputs_tables_previews")]

    operations = [
        migrations.RenameField("job", "figures", "made"),
        migrations.AlterField("job", "key", models.CharField(blank=True, max_length=64)),
        migrations.RunPython(forward, backward),
    ]
