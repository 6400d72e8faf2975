"""Rows that were there before a migration: they say the same behind it, and again on the way back."""

import pytest
from django.db import connection
from django.db.migrations.executor import MigrationExecutor


@pytest.fixture
def migrated():
    """Brings the database to a migration of studio, by name, and gives its models; all migrations are back behind the test."""
    yield lambda name: MigrationExecutor(connection).migrate([("studio", name)]).apps
    executor = MigrationExecutor(connection)
    executor.migrate(executor.loader.graph.leaf_nodes())


@pytest.mark.django_db(transaction=True)
def test_targets_that_were_references_with_more_columns_become_rows_of_their_own_and_back(user, club_survey, migrated):
    old = migrated("0012_other_drafts").get_model("studio", "Reference")
    track, row = (
        old.objects.create(owner_id=user.pk, title=t, file_name="", stored_name="", survey_json=club_survey.to_json())
        for t in ("Gangway", "Night watch")
    )
    row.target_json, row.heard = {"schema": "ersatz.target/1"}, track
    row.save()
    row.members.set([track])
    new = migrated("0013_target_model").get_model("studio", "Target").objects.get()
    assert (new.reference_id, new.document_json, new.heard_id) == (row.pk, {"schema": "ersatz.target/1"}, track.pk)
    assert [m.pk for m in new.members.all()] == [track.pk]
    back = migrated("0012_other_drafts").get_model("studio", "Reference").objects.get(pk=row.pk)
    assert (back.target_json, back.heard_id, [m.pk for m in back.members.all()]) == (row.target_json, track.pk, [track.pk])


@pytest.mark.django_db(transaction=True)
def test_what_steers_an_effect_of_a_saved_chain_is_its_sidechain(user, migrated):
    kept = [{"kind": "compressor", "key": "kick", "key_role": "kick"}, {"kind": "eq", "key": "", "key_role": ""}]
    old = migrated("0013_target_model").get_model("studio", "SavedChain")
    row = old.objects.create(owner_id=user.pk, name="Under the kick", effects_json=kept)
    new = migrated("0014_sidechain").get_model("studio", "SavedChain").objects.get()
    assert new.effects_json == [
        {"kind": "compressor", "sidechain": "kick", "sidechain_role": "kick"},
        {"kind": "eq", "sidechain": "", "sidechain_role": ""},
    ]
    assert migrated("0013_target_model").get_model("studio", "SavedChain").objects.get(pk=row.pk).effects_json == kept
