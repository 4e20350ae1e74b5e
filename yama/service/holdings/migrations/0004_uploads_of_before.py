from django.db import migrations, models


def name_uploads(apps, schema_editor):
    """Uploads of before were named by their bytes alone, and features lay in the facts."""
    holdings = apps.get_model("holdings", "Holding")
    holdings.objects.filter(recipe=None, file_key="").exclude(kind="features").update(file_key=models.F("key"))
    for holding in holdings.objects.filter(kind="features"):
        if "features" in holding.facts:  # its upload is still in the store and can be taken in again
            holding.delete()


class Migration(migrations.Migration):
    dependencies = [("holdings", "0003_holding_declared_holding_file_key_holding_origin_and_more")]
    operations = [migrations.RunPython(name_uploads, migrations.RunPython.noop)]
