import django.db.models.deletion
from django.db import migrations, models


def rows_of_their_own(apps, schema_editor):
    Reference, Target = (apps.get_model("studio", name) for name in ("Reference", "Target"))
    for old in Reference.objects.filter(target_json__isnull=False):
        new = Target.objects.create(reference=old, document_json=old.target_json, heard_id=old.heard_id)
        new.members.set(old.members.all())


def back_into_references(apps, schema_editor):
    Target = apps.get_model("studio", "Target")
    for new in Target.objects.select_related("reference"):
        old = new.reference
        old.target_json, old.heard_id = new.document_json, new.heard_id
        old.save()
        old.members.set(new.members.all())


class Migration(migrations.Migration):

    dependencies = [
        ('studio', '0012_other_drafts'),
    ]

    operations = [
        # Both are there while rows move from one to the other: the old names' way back is another meanwhile.
        migrations.AlterField(
            model_name='reference',
            name='heard',
            field=models.ForeignKey(blank=True, null=True, on_delete=django.db.models.deletion.SET_NULL, related_name='+', to='studio.reference'),
        ),
        migrations.AlterField(
            model_name='reference',
            name='members',
            field=models.ManyToManyField(blank=True, related_name='+', to='studio.reference'),
        ),
        migrations.CreateModel(
            name='Target',
            fields=[
                ('reference', models.OneToOneField(on_delete=django.db.models.deletion.CASCADE, primary_key=True, related_name='as_target', serialize=False, to='studio.reference')),
                ('document_json', models.JSONField()),
                ('heard', models.ForeignKey(blank=True, null=True, on_delete=django.db.models.deletion.SET_NULL, related_name='heard_for', to='studio.reference')),
                ('members', models.ManyToManyField(blank=True, related_name='member_of', to='studio.reference')),
            ],
        ),
        migrations.RunPython(rows_of_their_own, back_into_references),
        migrations.RemoveField(model_name='reference', name='heard'),
        migrations.RemoveField(model_name='reference', name='members'),
        migrations.RemoveField(model_name='reference', name='target_json'),
    ]
