from django.db import migrations

NEW_NAMES = {"key": "sidechain", "key_role": "sidechain_role"}


def _rename(apps, names):
    for chain in apps.get_model("studio", "SavedChain").objects.all():
        chain.effects_json = [{names.get(name, name): value for name, value in e.items()} for e in chain.effects_json]
        chain.save(update_fields=["effects_json"])


def to_sidechain(apps, schema_editor):
    _rename(apps, NEW_NAMES)


def to_key(apps, schema_editor):
    _rename(apps, {new: old for old, new in NEW_NAMES.items()})


class Migration(migrations.Migration):

    dependencies = [
        ('studio', '0013_target_model'),
    ]

    operations = [
        migrations.RunPython(to_sidechain, to_key),
    ]
