"""MIDI that other programs read, and the command."""

import io
import json
import os
import subprocess
import sys
from dataclasses import replace

import mido
import pytest
import soundfile

from ersatz.cli import main
from ersatz.core.errors import UnusableDocument
from ersatz.core.exchange.bends import value_at
from ersatz.core.exchange.midi import arrangement_of, count_events, pattern_midi, read_midi, write_midi
from ersatz.core.mixdown.schedule import sounding_notes
from ersatz.core.mixdown.staging import staged
from ersatz.core.song.parts import Cell, Note, Part, Pattern
from ersatz.core.survey.document import SCHEMA
from ersatz.core.voices import library
from tests.core.test_transitions import BAR, SONG


def roundtrip(song, tmp_path):
    write_midi(song, tmp_path / "song.mid")
    read = read_midi((tmp_path / "song.mid").read_bytes())
    return arrangement_of(read, "song.mid", BAR).apply(song)


def imported(song, tmp_path):
    """The parts that a song's own export makes, by name."""
    return {p.name: p for p in roundtrip(song, tmp_path).parts[len(song.parts) :]}


def test_every_part_comes_back_from_midi_as_what_it_was(tmp_path):
    drums = ("Mooring post", "Fog bank", "Four hands", "Galley snare", "Rivet", "Spray", "Whitecap", "Rail tap", "Grit")
    others = ("Low cask", "Ballast", "Deck stab", "Ferry voice", "Ebb", "Dropped anchor")
    entries = [library.library()[name] for name in (*drums, *others)]
    parts = []
    for k, entry in enumerate(entries):
        notes = (Note(0, 240, 60, 0.8), Note(1920 + 240 * (k % 4), 240, 60, 0.5, semitones=-3.0))
        made = Part(id=f"p{k}", name=f"Part {k}", role=entry.role, sound=entry.sound, patterns={"A": Pattern(1, notes)})
        parts.append(replace(made, cells=(Cell("s1", "A"),)))
    song = replace(SONG, parts=tuple(parts))
    back = imported(song, tmp_path)
    assert [(p.name, p.role, p.sound.name) for p in back.values()] == [(p.name, p.role, p.sound.name) for p in parts]
    for part in parts:
        first = back[part.name].patterns["A"].notes
        assert [(n.tick, n.midi + n.semitones) for n in first] == [(n.tick, n.midi + n.semitones) for n in part.patterns["A"].notes]
    # Percussion keys of other programs: two kicks, a snare, a rim.
    file = mido.MidiFile(str(tmp_path / "song.mid"))
    keys = [{m.note for m in t if m.type == "note_on" and m.channel == 9} for t in file.tracks]
    assert keys[1:6] == [{36}, {35}, {39}, {38}, {42}]


def test_drums_of_other_programs_are_told_by_their_keys():
    track = mido.MidiTrack()
    for key in (36, 38, 39, 42, 46, 37):
        track += [
            mido.Message("note_on", note=key, channel=9, velocity=100),
            mido.Message("note_off", note=key, channel=9, time=240),
        ]
    file = mido.MidiFile(ticks_per_beat=960)
    file.tracks.append(track)
    data = io.BytesIO()
    file.save(file=data)
    made = arrangement_of(read_midi(data.getvalue()), "x", BAR)
    kinds = [(t.role, library.library()[t.sound].kind) for t in made.tracks]
    assert kinds == [
        ("kick", "kick"),
        ("clap", "snare"),
        ("clap", "clap"),
        ("hats", "closed hat"),
        ("hats", "open hat"),
        ("perc", "rim"),
    ]


def test_slides_and_pitched_hits_go_through_midi(tmp_path):
    slide = Note(0, 960, 45, 0.9, bend=((0.0, 0.0), (480.0, 0.0), (900.0, 7.0)))
    chord = (Note(1920, 480, 57, 0.8), Note(1920, 480, 60, 0.8, bend=((0.0, -2.0), (240.0, 0.0))))
    bass = replace(SONG.part("lead"), id="b", name="B", patterns={"A": Pattern(1, (slide, *chord))})
    rim = replace(SONG.part("rim"), patterns={"A": Pattern(1, (Note(0, 240, 60, 0.8, semitones=5.0), Note(960, 240, 60, 0.8)))})
    song = replace(SONG, parts=(bass, rim))
    back = imported(song, tmp_path)
    (note,) = (n for n in back["B"].patterns["A"].notes if n.tick == 0)
    for at in (0, 300, 480, 700, 900):
        assert value_at(note.bend, at) == pytest.approx(value_at(slide.bend, at), abs=0.1)
    # The held voice of the chord isn't bent along: the other one has a track of its own.
    assert [n.bend for n in back["B"].patterns["A"].notes if n.tick == 1920] == [()]
    assert back["B 2"].patterns["A"].notes[0].bend[0] == (0.0, -2.0)
    assert [n.semitones for n in back["Rim"].patterns["A"].notes] == [5.0, 0.0]
    one = read_midi(pattern_midi(song, bass, "A"))
    assert max(st for n in one.tracks[0].notes for _, st in n.bend or ((0, 0),)) == pytest.approx(7.0, abs=0.01)


@pytest.mark.parametrize("broken", ["tempo", "signature", "metre", "cut", "noise"])
def test_odd_midi_files_get_a_sentence_or_are_read(broken):
    head = b"MThd\x00\x00\x00\x06\x00\x00\x00\x01\x03\xc0"
    bodies = {
        "tempo": b"\x00\xff\x51\x03\x00\x00\x00\x00\x90\x3c\x40\x60\x80\x3c\x00\x00\xff\x2f\x00",
        "signature": b"\x00\xff\x59\x02\x7f\x05\x00\xff\x2f\x00",
        "metre": b"\x00\xff\x58\x04\x00\xff\x18\x08\x00\xff\x2f\x00",
        "cut": b"\x00\x90\x3c",
        "noise": bytes(range(256)),
    }
    body = bodies[broken]
    data = head + b"MTrk" + len(body).to_bytes(4, "big") + body
    try:
        assert read_midi(data).bpm >= 0
    except UnusableDocument as error:
        assert "MIDI" in str(error)


def test_events_are_counted_before_a_file_is_parsed(monkeypatch):
    # Running status: two bytes and a time for each.
    body = b"\x00\x90\x3c\x40" + b"\x01\x3c\x00\x01\x3c\x40" * 200_000
    data = b"MThd\x00\x00\x00\x06\x00\x00\x00\x01\x03\xc0MTrk" + len(body).to_bytes(4, "big") + body
    assert count_events(data, 1000) == 1001
    assert count_events(data[:400], 1000) == (400 - 22 - 4) // 3 + 1 + 1
    monkeypatch.setattr(mido, "MidiFile", None)
    with pytest.raises(UnusableDocument, match="up to"):
        read_midi(data)


@pytest.mark.parametrize(
    ("out", "said"),
    [("nowhere/mix.wav", "no folder"), ("mix", "should end in"), ("mix.doc", "should end in"), ("pipe.wav", "not a file")],
)
def test_a_mixdown_that_has_no_place_is_said_before_it_is_made(song, tmp_path, capsys, out, said):
    (tmp_path / "song.json").write_text(json.dumps(song.to_json()))
    os.mkfifo(tmp_path / "pipe.wav")
    assert main(["mixdown", str(tmp_path / "song.json"), "--out", str(tmp_path / out)]) == 2
    assert said in (printed := capsys.readouterr().err) and printed.count("\n") == 1


def test_documents_that_are_no_files_or_no_json_get_one_line(tmp_path, capsys):
    os.mkfifo(tmp_path / "pipe.json")
    (tmp_path / "odd.json").write_text('{"schema": "ersatz.song/3", "bpm": NaN}')
    (tmp_path / "fix.json").write_text('{"bpm": 0}')
    for name in ("pipe.json", "missing.json", "odd.json"):
        assert main(["mixdown", str(tmp_path / name), "--out", str(tmp_path / "x.wav")]) == 2
    assert main(["survey", str(tmp_path / "x.wav"), "--corrections", str(tmp_path / "fix.json")]) == 2
    printed = capsys.readouterr().err
    assert printed.count("\n") == 4 and "NaN" in printed and "bpm" in printed


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
