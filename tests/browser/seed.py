"""A home as an earlier use would have left it, with references and drafts: `python -m tests.browser.seed FOLDER`.

FOLDER holds club.flac, survey.json and song.json; ERSATZ_HOME names the home.
"""

import json
import shutil
import sys
from pathlib import Path

import django

django.setup()

from django.contrib.auth import get_user_model  # noqa: E402

from ersatz.core.audio import Audio, file_sha256, read_audio, write_audio  # noqa: E402
from ersatz.core.mixdown.render import RATE_HZ  # noqa: E402
from ersatz.core.song.document import Song  # noqa: E402
from ersatz.core.survey.document import Survey  # noqa: E402
from ersatz.studio.middleware import LOCAL_USER  # noqa: E402
from ersatz.studio.models import Measurement, Reference, Remake  # noqa: E402
from ersatz.studio.shared.targets import make_target  # noqa: E402
from tests.tunes import TUNE, playing, recording, survey_of_recording  # noqa: E402

#: One for each test that corrects its survey, and the first for all that don't; drafts for those that edit one.
REFERENCES, DRAFTS = 6, 24


def main(folder: Path) -> None:
    user = get_user_model().objects.create_user(LOCAL_USER)
    survey, song = (json.loads((folder / name).read_text()) for name in ("survey.json", "song.json"))
    # As a measurement of this file has it: addresses of its bars hold it.
    survey["source"]["sha256"] = file_sha256(folder / "club.flac")
    audio, listening = read_audio(folder / "club.flac"), folder / "listening.flac"
    write_audio(listening, Audio(audio.samples, RATE_HZ))
    references = []
    for k in range(REFERENCES):
        made = Reference.objects.create(
            owner=user,
            title=f"Pier {k}",
            file_name="club.flac",
            stored_name="original.flac",
            survey_json=survey,
            measured_json=survey,
        )
        made.folder.mkdir(parents=True)
        shutil.copyfile(folder / "club.flac", made.audio_path)
        shutil.copyfile(listening, made.listening_path)
        references.append(made)
    drafted = Song.from_json(song)
    for k in range(DRAFTS):
        remake = Remake.objects.create(owner=user, reference=references[0], title=f"Draft {k}")
        remake.start(drafted, "Drafted from the reference")
    # What is looked at and never changed: a remake that is measured, and a target.
    read = Remake.objects.create(owner=user, reference=references[0], title="Draft to look at")
    read.start(drafted, "Drafted from the reference")
    Measurement.objects.create(remake=read, sha=drafted.sha(), survey_json=survey)
    # One whose tune is the reference's.
    tune = survey_of_recording(Survey.from_json(survey)).to_json()
    played = recording(TUNE)
    original = Reference.objects.create(
        owner=user, title="A tune", file_name="tune.wav", stored_name="original.wav", survey_json=tune, measured_json=tune
    )
    original.folder.mkdir(parents=True)
    for path in (original.audio_path, original.listening_path):
        write_audio(path, played)
    copied = playing(drafted, "lead", TUNE)
    copy = Remake.objects.create(owner=user, reference=original, title="The same again")
    copy.start(copied, "Drafted from the reference")
    Measurement.objects.create(remake=copy, sha=copied.sha(), survey_json=survey)
    make_target(user, title="House of the pier", members=[], style="tech-house")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
