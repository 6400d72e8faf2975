"""MIDI that other programs read, and the command."""

import json
import os
import subprocess
import sys

import mido
import pytest
import soundfile

from ersatz.cli import main
from ersatz.core.exchange.midi import write_midi
from ersatz.core.mixdown.schedule import sounding_notes
from ersatz.core.mixdown.staging import staged
from ersatz.core.survey.document import SCHEMA


def test_midi_holds_tempo_key_markers_and_every_note(song, tmp_path):
    path = tmp_path / "song.mid"
    write_midi(song, path)
    file = mido.MidiFile(str(path))
    conductor = file.tracks[0]
    assert mido.tempo2bpm(next(m.tempo for m in conductor if m.type == "set_tempo")) == pytest.approx(song.bpm, abs=0.01)
    assert next(m.key for m in conductor if m.type == "key_signature") == "Am"
    assert sum(m.type == "marker" for m in conductor) == len(song.sections)
    played = staged(song)
    for part, track in zip(played.parts, file.tracks[1:]):
        tick, starts = 0, []
        for message in track:
            tick += message.time
            if message.type == "note_on" and message.velocity > 0:
                starts.append(tick)
        assert starts == sorted(round(n.start) for n in sounding_notes(played, part) if not n.swell)
        assert sum(m.type == "note_off" for m in track) == len(starts)


def test_survey_command_writes_the_format(club_file, tmp_path, capsys):
    out = tmp_path / "survey.json"
    assert main(["survey", str(club_file), "--json", str(out)]) == 0
    data = json.loads(out.read_text())
    assert data["schema"] == SCHEMA
    assert data["tempo"]["bpm"] == pytest.approx(126, abs=0.02)
    assert main(["survey", str(club_file)]) == 0
    assert json.loads(capsys.readouterr().out)["key"]["tonic"] == "A"


def test_mixdown_command_renders_bars(song, tmp_path):
    document = tmp_path / "song.json"
    document.write_text(json.dumps(song.to_json()))
    out = tmp_path / "mix.wav"
    assert main(["mixdown", str(document), "--out", str(out), "--bars", "9-10", "--stems", str(tmp_path / "stems")]) == 0
    assert len(list((tmp_path / "stems").glob("*.wav"))) == len(song.parts) + 2
    assert soundfile.info(str(out)).duration == pytest.approx(2 * song.grid.bar_s, abs=0.001)


@pytest.mark.parametrize(
    "arguments",
    [["survey", "missing.wav"], ["draft", "missing.json", "--out", "x.json"], ["gap", "a.wav", "b.wav"]],
)
def test_unusable_input_ends_with_2_and_one_line(arguments, tmp_path, capsys, monkeypatch):
    monkeypatch.chdir(tmp_path)
    assert main(arguments) == 2
    says = capsys.readouterr().err.strip()
    assert says.startswith("ersatz: ")
    assert "\n" not in says


def test_bars_outside_the_song_are_refused(song, tmp_path, capsys):
    document = tmp_path / "song.json"
    document.write_text(json.dumps(song.to_json()))
    for bars in ("0-4", "5-2", "1-9999", "soon"):
        assert main(["mixdown", str(document), "--out", str(tmp_path / "x.wav"), "--bars", bars]) == 2
    assert "Traceback" not in capsys.readouterr().err


def test_the_command_runs_as_a_process(tmp_path):
    bad = tmp_path / "letter.wav"
    bad.write_text("dear producer")
    done = subprocess.run(
        [sys.executable, "-m", "ersatz", "survey", str(bad)], capture_output=True, text=True, env=os.environ, check=False
    )
    assert done.returncode == 2
    assert done.stdout == ""
    assert done.stderr.count("\n") == 1


def test_target_command_and_gap_against_a_target(club_survey, tmp_path, capsys):
    survey, target = tmp_path / "survey.json", tmp_path / "target.json"
    survey.write_text(json.dumps(club_survey.to_json()))
    assert main(["target", str(survey), str(survey), "--title", "Twice", "--json", str(target)]) == 0
    document = json.loads(target.read_text())
    assert (document["schema"], document["title"], len(document["members"])) == ("ersatz.target/1", "Twice", 2)
    assert main(["gap", str(target), str(survey)]) == 0
    figures = json.loads(capsys.readouterr().out)["figures"]
    assert {f["verdict"] for f in figures} == {"matched"}
    assert main(["target", str(survey)]) == 2
    assert main(["target", "--style", "grime", str(survey)]) == 2
