"""Features know the units of their columns: contours were in the unit asked for, heights of files in metres."""

import re

from django.db import migrations

HEIGHTS = ("z", "h", "height", "elev", "elevation", "alt", "altitude", "z_m", "height_m", "level", "contour", "ele")
UNIT = re.compile(r"[\s_\[(]*(m|ft|us-ft|feet|metres|meters)[\])]?$")


def is_height(column):
    return UNIT.sub("", column.lower()).strip(" _") in HEIGHTS


def forward(apps, _editor):
    known = {}
    for one in apps.get_model("holdings", "Holding").objects.filter(kind="features").order_by("pk").iterator():
        recipe = one.recipe or {}
        if recipe.get("operation") == "contours":
            units = {"height": recipe["params"].get("unit", "m")}
        elif recipe.get("operation") == "edit_features":
            units = known.get((one.project_id, recipe["inputs"]["features"][0]), {})
        else:
            columns = one.facts.get("attributes", {})
            units = {name: "m" for name, kind in columns.items() if kind == "number" and is_height(name)}
        known[one.project_id, one.key] = one.facts["units"] = units
        one.save(update_fields=["facts"])


def backward(apps, _editor):
    for one in apps.get_model("holdings", "Holding").objects.filter(kind="features").iterator():
        one.facts.pop("units", None)
        one.save(update_fields=["facts"])


class Migration(migrations.Migration):
    dependencies = [("holdings", "0009_outputs_tables_previews")]

    operations = [migrations.RunPython(forward, backward)]
