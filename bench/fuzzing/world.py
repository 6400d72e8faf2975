"""A small reference and a remake of it in the database, for ./run fuzz."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from django.contrib.auth import get_user_model
from django.test import Client

from bench.crash import RATE_HZ
from bench.fuzzing.cases import World
from ersatz.core.audio import Audio, write_audio
from ersatz.core.draft import draft_song
from ersatz.core.survey import survey_audio
from ersatz.core.survey.document import Source
from ersatz.studio.middleware import LOCAL_USER
from ersatz.studio.models import Reference, Remake


def small_track(bars: int = 16, bpm: float = 126.0) -> Audio:
    """Drums, then drums with a bass and a chord, in stereo."""
    beat = 60 / bpm
    n = int(bars * 4 * beat * RATE_HZ)
    x, rng = np.zeros((2, n)), np.random.default_rng(5)
    t = np.arange(int(0.4 * RATE_HZ)) / RATE_HZ
    kick, hat = np.sin(2 * np.pi * 52 * t) * np.exp(-t / 0.1), rng.standard_normal(len(t)) * np.exp(-t / 0.02) * 0.3
    for k in range(bars * 4):
        for sound, at in ((kick, k * beat), (hat, (k + 0.5) * beat)):
            i = int(at * RATE_HZ)
            x[:, i : i + len(sound)] += sound[: max(0, n - i)]
    u = np.arange(n) / RATE_HZ
    music = 0.2 * np.sign(np.sin(2 * np.pi * 55 * u)) + 0.1 * np.sin(2 * np.pi * 261.6 * u) + 0.1 * np.sin(2 * np.pi * 311.1 * u)
    x += np.where(u > bars * 2 * beat, music, 0.0)
    return Audio((x / np.abs(x).max() * 0.9).astype(np.float32), RATE_HZ)


def prepared(folder: Path) -> World:
    user = get_user_model().objects.create_user(LOCAL_USER)
    audio = small_track()
    survey = survey_audio(audio, Source("small.wav", audio.duration_s, RATE_HZ, 2, "0" * 64))
    song = draft_song(survey, seed=2, title="Fuzz")
    reference = Reference.objects.create(
        owner=user, title="Small", file_name="small.wav", stored_name="original.wav", survey_json=survey.to_json()
    )
    reference.folder.mkdir(parents=True)
    write_audio(reference.audio_path, audio)
    write_audio(reference.listening_path, Audio(audio.samples, RATE_HZ))
    remake = Remake.objects.create(owner=user, reference=reference, title=song.title)
    remake.start(song, "Drafted")
    client = Client(HTTP_HOST="localhost", raise_request_exception=True)
    client.force_login(user)
    return World(song, client, remake.pk, reference.pk, folder)
