"""Holdings of other outputs than a step's first, tables, and previews that are kept; a finding's button is its fix."""

import django.db.models.deletion
from django.db import migrations, models


def rename(told: object, old: str, new: str) -> bool:
    """Give a key of findings another name, in place; whether there was one."""
    changed = False
    for finding in told if isinstance(told, list) else []:
        if isinstance(finding, dict) and old in finding:
            finding[new] = finding.pop(old)
            changed = True
    return changed


def _each(apps, old, new):
    holding = apps.get_model("holdings", "Holding")
    for one in holding.objects.all().iterator():
        if rename(one.facts.get("findings"), old, new):
            one.save(update_fields=["facts"])


def forward(apps, _editor):
    _each(apps, "mend", "fix")


def backward(apps, _editor):
    _each(apps, "fix", "mend")


class Migration(migrations.Migration):
    dependencies = [("holdings", "0008_deleted_for_a_week"), ("projects", "0001_initial")]

    operations = [
        migrations.AlterField("holding", "key", models.CharField(max_length=64)),
        migrations.AlterField(
            "holding",
            "kind",
            models.CharField(
                choices=[("surface", "Surface"), ("points", "Points"), ("features", "Features"), ("cloud", "Cloud"), ("image", "Image"),
                         ("table", "Table")],
                max_length=10,
            ),
        ),
        migrations.CreateModel(
            name="Preview",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("key", models.CharField(max_length=32)),
                ("step", models.JSONField()),
                ("asked_at", models.DateTimeField(auto_now=True, db_index=True)),
                ("project", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="previews", to="projects.project")),
            ],
            options={"constraints": [models.UniqueConstraint(fields=("project", "key"), name="one_preview_a_key")]},
        ),
        migrations.RunPython(forward, backward),
    ]
